// Package population invents people, their accounts and the truth about who is
// who, from a seed: the same seed and size give the same bytes.
//
// Habits: most accounts carry the staff number, many only an address, 8 % of
// twins share no key at all; some people have no account and some accounts no
// person; attributes differ on a few twins, some people have left.
package population

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"

	"twinning/internal/core/record"
)

var given = strings.Fields("Ana Bruno Camila Diego Elena Felipe Greta Hugo Inés Joaquín Karla Leandro Marta Nicolás Olga Pablo Quirina Raúl Sofía Tomás Úrsula Valentín Wanda Ximena Yaël Zoë Aoife Björn Chloé Dmitri Eirini Françoise Giorgos Håkon Ivana José Krzysztof Łucja Miloš Nadezhda")
var family = strings.Fields("Soto Thorne Vega Rojas Lindqvist Okafor Petrov Nakamura Müller García Šimić Papadopoulos Østergaard Kowalczyk Ferreira Dubois Çelik Novák Johansson Castillo Quiroga Ibarra Salinas Fuentes Moreau Byrne Kaya Ivanova Costa Weiss Araya Pizarro Hernández Tapia Bravo Cifuentes")
var syllables = strings.Fields("ba ce di fo gu la me ni ro su ta ve wi xo za mar tel dor vin sal ker lun pol ran")
var departments = strings.Fields("Optics Instruments Operations Kitchen Transport Library Survey Mechanics Safety Outreach Computing Weather")

// Sizes of the habits, as shares of the people.
const (
	withoutAccount = 0.03
	noKey          = 0.08 // of twins
	onlyEmail      = 0.17
	drifted        = 0.02
	left           = 0.01
	orphans        = 0.02
)

// Write makes people.csv, accounts.csv and truth.csv with n people in dir.
func Write(dir string, n int, seed uint64) error {
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return err
	}
	var files [3]*bufio.Writer
	for i, name := range []string{"people.csv", "accounts.csv", "truth.csv"} {
		f, err := os.Create(filepath.Join(dir, name))
		if err != nil {
			return err
		}
		defer f.Close() // flushed below
		files[i] = bufio.NewWriterSize(f, 1<<20)
	}
	generate(n, rand.New(rand.NewPCG(seed, uint64(n))), files[0], files[1], files[2]) // repeatable on purpose
	for _, f := range files {
		if err := f.Flush(); err != nil {
			return err
		}
	}
	return nil
}

func generate(n int, rng *rand.Rand, people, accounts, truth io.Writer) {
	fmt.Fprintln(people, "staff_no,given_name,family_name,mail,job_title,department,site,status,employment")
	fmt.Fprintln(accounts, "account_id,external_id,login,given,family,display,mail,other_mail,title,dept,active")
	fmt.Fprintln(truth, "person_id,account_id")
	ids := rng.Perm(n + int(orphans*float64(n)) + 1)
	pick := func(list []string) string { return list[rng.IntN(len(list))] }
	surname := func() string {
		if rng.Float64() < 0.35 {
			return pick(family)
		}
		s := pick(syllables) + pick(syllables) + pick(syllables)
		return strings.ToUpper(s[:1]) + s[1:]
	}
	row := 0
	for i := range n {
		g, f := pick(given), surname()
		no := fmt.Sprintf("L%07d", 1000000+i)
		login := record.Slug(g[:1]) + record.Slug(f) + fmt.Sprint(i)
		mail := record.Slug(g) + "." + record.Slug(f) + fmt.Sprint(i) + "@larkspur.example"
		title, dept := pick([]string{"Astronomer", "Night assistant", "Mechanic", "Cook", "Engineer"}), pick(departments)
		status := "A"
		if rng.Float64() < left {
			status = "L"
		}
		fmt.Fprintf(people, "%s,%s,%s,%s,%s,%s,site-%d,%s,%s\n", no, g, f, mail, title, dept, rng.IntN(4), status, pick([]string{"staff", "staff", "staff", "visitor"}))
		if rng.Float64() < withoutAccount {
			continue
		}
		account := fmt.Sprintf("acc-%08d", ids[row])
		row++
		external, address := no, strings.ToUpper(mail[:1])+mail[1:]
		switch x := rng.Float64(); {
		case x < noKey:
			external, address = "", login+"@old.larkspur.example"
		case x < noKey+onlyEmail:
			external = ""
		}
		if rng.Float64() < drifted {
			title = "Retitled"
		}
		other := ""
		if rng.Float64() < 0.2 {
			other = login + "@alias.larkspur.example"
		}
		fmt.Fprintf(accounts, "%s,%s,%s,%s,%s,%s %s,%s,%s,%s,%s,true\n", account, external, login, g, f, g, f, address, other, title, dept)
		fmt.Fprintf(truth, "%s,%s\n", no, account)
	}
	for i := range int(orphans * float64(n)) {
		g, f := pick(given), surname()
		account := fmt.Sprintf("acc-%08d", ids[row])
		row++
		fmt.Fprintf(accounts, "%s,,svc%d,%s,%s,%s %s,orphan%d@larkspur.example,,,,true\n", account, i, g, f, g, f, i)
	}
}
