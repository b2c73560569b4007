// Package demo is the Larkspur Observatories: four mountain sites, about 420
// people in a directory, two applications, a mail gateway that speaks in files,
// and the directory of a radio array that was taken over. Everything in it is
// invented, and everything that can be wrong with a lane is wrong somewhere, on
// purpose.
//
// It has two days. On the first the lane is new; the pilot group is run. On the
// second the house has changed: marriages, moves, leavers, a lost account.
package demo

import (
	_ "embed"
	"encoding/csv"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/record"
)

// The systems' shape and the lanes' charters.
var (
	//go:embed hq-shape.yaml
	HQShape string
	//go:embed hq-file-shape.yaml
	HQFileShape string // of the same people as an export
	//go:embed candlewick-shape.yaml
	CandlewickShape string
	//go:embed mail-gate-shape.yaml
	MailGateShape string
	//go:embed hq-mail-gate.yaml
	MailGateLane string
	//go:embed hq-dome-booking.yaml
	DomeBooking string
	//go:embed hq-dome-admins.yaml
	DomeAdmins string
	//go:embed hq-candlewick.yaml
	CandlewickLane string
	//go:embed candlewick-visitors.yaml
	VisitorsLane string
	//go:embed night-log-shape.yaml
	NightLogShape string
	//go:embed hq-night-log.yaml
	NightLogLane string
)

// Person is one row of the directory's export.
type Person struct {
	No, Given, Family, Mail, Title, Department, Site, Status, Employment, End, Manager, Phone string // Manager is a DN
}

// User is one account of the application, in SCIM's words.
type User map[string]any

// World is both lists on one day.
type World struct {
	People []Person
	Users  []User
}

// TitleLimit is how long a title dome-booking keeps: longer ones are cut.
const TitleLimit = 32

var given = strings.Fields(`Ana Bruno Camila Diego Elena Felipe Greta Hugo Inés Joaquín Karla Leandro Marta Nicolás Olga Pablo Quirina Raúl Sofía Tomás
Úrsula Valentín Wanda Ximena Yael Zoë Aoife Björn Chloé Dimitra Eirini Françoise Giorgos Håkon Ivana José Krzysztof Łucja Miloš Nadezhda
Orsolya Petros Ragnhild Siobhán Tuomas Vesna Wiebke Yusuf Zofia Amparo`)

var family = strings.Fields(`Soto Thorne Vega Rojas Lindqvist Okafor Petrov Nakamura Müller García Šimić Papadopoulos Østergaard Kowalczyk Ferreira Dubois Çelik Novák Johansson
Castillo Quiroga Ibarra Salinas Fuentes Moreau Byrne Kaya Ivanova Costa Weiss Araya Pizarro Hernández Tapia Bravo Cifuentes Marín Olsson Szabó Virtanen Horvat`)

var titles = []string{"Astronomer", "Night assistant", "Mechanic", "Cook", "Optician", "Electronics engineer", "Driver", "Librarian", "Survey scientist", "Safety officer"}
var departments = []string{"Science", "Operations", "Workshop", "Kitchen", "Optics", "Electronics", "Transport", "Library", "Survey", "Safety"}
var sites = []string{"Cerro Alto", "Paso Hondo", "Llano Blanco", "Quebrada Honda"}

// size is how many people are made by rule; the special cases come on top.
const size = 396

// FirstDay makes both lists as they were when the lane was new.
func FirstDay() *World {
	w := &World{}
	taken := map[string]bool{}
	for i := range size {
		p := Person{
			No: fmt.Sprintf("L%04d", i+1), Given: given[i%len(given)], Family: family[(i*7+i/len(given))%len(family)],
			Title: titles[i%len(titles)], Department: departments[i%len(departments)], Site: sites[i%len(sites)], Status: "A", Employment: "staff",
		}
		switch {
		case i%67 == 66:
			p.Title, p.Department, p.Employment = "Guest", "Visitors", "guest"
		case i%29 == 28:
			p.Employment = "visitor"
		case i%33 == 5:
			p.Title, p.Department = "Systems administrator", "Computing"
		}
		p.Mail = address(p.Given+"."+p.Family, taken)
		w.People = append(w.People, p)
		if p.Employment != "guest" && i%45 != 44 {
			w.account(p, i)
		}
	}
	w.special()
	for i := range w.People { // most have a telephone; a couple and a father and son share theirs
		if p := &w.People[i]; i%9 != 8 && p.Employment != "service" || p.No == "L0914" {
			p.Phone = fmt.Sprintf("+56 55 2%03d %04d", 100+i, 1000+i*7)
		}
		if p := &w.People[i]; p.No == "L0928" {
			p.Phone = w.People[i-1].Phone
		}
	}
	for i := range w.People { // ten chiefs, and whoever they lead
		if p := &w.People[i]; i%40 != 0 {
			p.Manager = w.People[i-i%40].DN()
		}
	}
	return w
}

func address(name string, taken map[string]bool) string {
	for n := 1; ; n++ {
		a := record.Slug(name)
		if n > 1 {
			a += fmt.Sprint(n)
		}
		if a += "@larkspur.example"; !taken[a] {
			taken[a] = true
			return a
		}
	}
}

func (w *World) hasLogin(name string) bool {
	return slices.ContainsFunc(w.Users, func(u User) bool { return u["userName"] == name })
}

// account makes the person's account, most of them as they should be.
func (w *World) account(p Person, i int) User {
	login := record.Slug(initial(p.Given) + p.Family)
	if w.hasLogin(login) {
		login = record.Slug(p.Given + "." + p.Family)
	}
	if w.hasLogin(login) {
		return nil
	}
	title := p.Title
	if i%41 == 7 {
		title = "Assistant"
	}
	u := NewUser(fmt.Sprintf("u%05d", i+1), p.No, login, p.Given, p.Family, p.Mail)
	u["title"] = title
	if i%17 == 3 {
		u["externalId"] = ""
	}
	u["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"] = map[string]any{"department": p.Department}
	w.Users = append(w.Users, u)
	return u
}

func initial(s string) string { return string([]rune(s)[:1]) }

// NewUser makes an account as dome-booking keeps it.
func NewUser(id, external, login, given, family, mail string, aliases ...string) User {
	u := User{"id": id, "externalId": external, "userName": login, "active": true}
	if given+family != "" {
		u["name"] = map[string]any{"givenName": given, "familyName": family}
		u["displayName"] = strings.TrimSpace(given + " " + family)
	}
	emails := []any{}
	if mail != "" {
		emails = append(emails, map[string]any{"value": mail, "type": "work", "primary": true})
	}
	for _, a := range aliases {
		emails = append(emails, map[string]any{"value": a, "type": "other", "primary": false})
	}
	u["emails"] = emails
	return u
}

func (w *World) add(no, given, family, mail, title, department string, more ...func(*Person)) {
	p := Person{No: no, Given: given, Family: family, Mail: mail, Title: title, Department: department, Site: sites[0], Status: "A", Employment: "staff"}
	for _, m := range more {
		m(&p)
	}
	w.People = append(w.People, p)
}

func (w *World) user(id, external, login, given, family, mail string, aliases ...string) User {
	u := NewUser(id, external, login, given, family, mail, aliases...)
	w.Users = append(w.Users, u)
	return u
}

// special adds the cases that a first load must cope with.
func (w *World) special() {
	// names in other scripts
	w.add("L0901", "Надежда", "Сорокина", "nadezhda.sorokina@larkspur.example", "Astronomer", "Science")
	w.add("L0902", "Ελένη", "Παπαδάκη", "eleni.papadaki@larkspur.example", "Optician", "Optics")
	w.user("u90902", "L0902", "epapadaki", "Ελένη", "Παπαδάκη", "eleni.papadaki@larkspur.example")["title"] = "Optician"
	w.add("L0903", "美玲", "陳", "meiling.chen@larkspur.example", "Astronomer", "Science") // no Latin login can be made: required-missing
	w.add("L0904", "Þóra", "Ægisdóttir", "thora.aegisdottir@larkspur.example", "Driver", "Transport")
	// a service that has a record, and the instruments' own accounts
	w.add("L0910", "Dome", "Controller", "dome-controller@larkspur.example", "Instrument", "Operations", func(p *Person) { p.Employment = "service" })
	for i, rig := range []string{"rig-north", "rig-south", "rig-spectro"} {
		w.user(fmt.Sprintf("u8000%d", i), "", rig, "", "", rig+"@larkspur.example")
	}
	// email-taken: the address is an instrument's alias
	w.user("u80009", "", "rig-camera", "", "", "rig-camera@larkspur.example", "tadeo.lira@larkspur.example")
	w.add("L0911", "Tadeo", "Lira", "tadeo.lira@larkspur.example", "Mechanic", "Workshop")
	// username-taken: both candidates are held by orphans
	w.user("u80010", "", "zquint", "Zoraida", "Quint", "z.quint@larkspur.example")
	w.user("u80011", "", "zulema.quint", "Zulema", "Quintana", "zulema.q@larkspur.example")
	w.add("L0912", "Zulema", "Quint", "zulema.quint@larkspur.example", "Cook", "Kitchen")
	// value-invalid, no-email
	w.add("L0913", "Lucía", "Peña", "lucia.pena@@larkspur.example", "Cook", "Kitchen")
	w.add("L0914", "Okko Juhani", "Rantala", "", "Driver", "Transport")
	// duplicate-account: a second account that owns the address as an alias
	w.add("L0920", "Matilda", "Thorne-Vega", "matilda.thorne-vega@larkspur.example", "Astronomer", "Science")
	w.user("u90920", "L0920", "mthorne-vega", "Matilda", "Thorne-Vega", "matilda.thorne-vega@larkspur.example")["title"] = "Astronomer"
	w.user("u90921", "", "matilda", "Matilda", "Thorne-Vega", "", "matilda.thorne-vega@larkspur.example")
	// duplicate-person: listed twice
	w.add("L0922", "Ignacio", "Vivar", "ignacio.vivar@larkspur.example", "Night assistant", "Operations")
	w.add("L0923", "Ignacio", "Vivar", "ignacio.vivar@larkspur.example", "Night assistant", "Operations")
	w.user("u90922", "L0922", "ivivar", "Ignacio", "Vivar", "ignacio.vivar@larkspur.example")["title"] = "Night assistant"
	// contradictory-keys: number and address lead to two accounts
	w.add("L0924", "Rosa", "Yáñez", "rosa.yanez@larkspur.example", "Librarian", "Library")
	w.user("u90924", "L0924", "ryanez", "Rosa", "Yáñez", "rosa@larkspur.example")
	w.user("u90925", "", "rosa.y", "Rosa", "Yáñez", "rosa.yanez@larkspur.example")
	// contested-match: a recycled address with another's number on the account
	w.add("L0926", "Abril", "Sandoval", "a.sandoval@larkspur.example", "Mechanic", "Workshop")
	w.user("u90926", "L0007x", "asandoval", "Arturo", "Sandoval", "a.sandoval@larkspur.example")
	// shared-key: a mailbox that a couple gives
	w.add("L0927", "Ema", "Carrasco", "casa.carrasco@larkspur.example", "Cook", "Kitchen")
	w.add("L0928", "Óscar", "Carrasco", "casa.carrasco@larkspur.example", "Cook", "Kitchen")
	w.user("u90927", "", "carrasco", "Familia", "Carrasco", "casa.carrasco@larkspur.example")
	// mark-foreign: another tool has marked the account
	w.add("L0929", "Ulises", "Bahamonde", "ulises.bahamonde@larkspur.example", "Driver", "Transport")
	w.user("u90929", "payroll-5512", "ubahamonde", "Ulises", "Bahamonde", "ulises.bahamonde@larkspur.example")["title"] = "Driver"
	// orphans
	w.user("u90930", "L0000", "gnoble", "Gil", "Noble", "gil.noble@larkspur.example")
	w.user("u90931", "", "observer", "Visiting", "Observer", "observer@larkspur.example")
	// pilot: a title that the application cuts, and somebody on leave
	w.add("L0940", "Simona", "Drăgan", "simona.dragan@larkspur.example", "Senior scientist for interferometric calibration", "Computing")
	w.user("u90940", "L0940", "sdragan", "Simona", "Drăgan", "simona.dragan@larkspur.example")["title"] = "Scientist"
	w.add("L0941", "Teun", "van der Meer", "teun.vandermeer@larkspur.example", "Programmer", "Computing", func(p *Person) { p.Status = "L" })
	w.user("u90941", "L0941", "tvandermeer", "Teun", "van der Meer", "teun.vandermeer@larkspur.example")["title"] = "Programmer"
	// claimed-twice: an administrator's account that both lanes come to hold
	w.add("L0942", "Nerea", "Uribe", "nerea.uribe@larkspur.example", "Systems administrator", "Computing")
	w.user("u90942", "L0942", "nuribe", "Nerea", "Uribe", "nerea.uribe@larkspur.example")["title"] = "Systems administrator"
	// people for the second day
	for i, s := range [][3]string{{"L0950", "Carla", "Montt"}, {"L0951", "Beatriz", "Luna"}, {"L0952", "Andrés", "Luna"}, {"L0953", "Kofi", "Asante"}, {"L0954", "Lena", "Brandt"}, {"L0955", "Ivo", "Marinov"}, {"L0956", "Rita", "Falk"}, {"L0957", "Samir", "Haddad"}, {"L0958", "Nora", "Quist"}} {
		mail := record.Slug(s[1]+"."+s[2]) + "@larkspur.example"
		w.add(s[0], s[1], s[2], mail, "Astronomer", "Science")
		w.user(fmt.Sprintf("u9095%d", i), s[0], record.Slug(initial(s[1])+s[2]), s[1], s[2], mail)["title"] = "Astronomer"
	}
	// recycled-key: the account of somebody who had the staff number before her
	w.add("L0960", "Iria", "Paz", "iria.paz@larkspur.example", "Optician", "Optics")
	w.user("u90960", "L0960", "gortiz", "Gabriel", "Ortiz", "gabriel.ortiz@larkspur.example")["title"] = "Driver"
}

// SecondDay changes the world as it is found on the second day.
func (w *World) SecondDay() {
	p := func(no string) *Person {
		return &w.People[slices.IndexFunc(w.People, func(p Person) bool { return p.No == no })]
	}
	p("L0941").Status = "A" // back from leave: reinstate what we suspended
	carla := p("L0950")     // married: login and address follow, the old address is kept
	carla.Family, carla.Mail = "Montt-Riquelme", "carla.montt-riquelme@larkspur.example"
	p("L0951").Mail, p("L0952").Mail = "b.luna@larkspur.example", "beatriz.luna@larkspur.example" // he takes what she frees
	swapped, with := p("L0072"), p("L0336")                                                       // two of Computing whose addresses had been mixed up
	swapped.Mail, with.Mail = with.Mail, swapped.Mail
	p("L0953").Status = "L" // leavers
	p("L0954").End = "2026-01-31"
	for _, no := range []string{"L0020", "L0140"} {
		p(no).Title = "Deputy director"
	}
	p("L0060").Department = "Directorate"                                                  // watched: drift
	p("L0200").End = "31 Jan"                                                              // typed by hand: can't be understood
	w.People = slices.DeleteFunc(w.People, func(p Person) bool { return p.No == "L0955" }) // vanished
}

// Behind changes the application behind Twinning's back: given the users as
// they are, it returns those to put and the ids to remove.
func Behind(users []User) (put []User, remove []string) {
	for _, u := range users {
		switch u["externalId"] {
		case "L0956": // somebody suspended it by hand
			put = append(put, User{"id": u["id"], "active": false})
		case "L0957": // its account was rewritten for Nora Quist, whose own was deleted
			put = append(put, User{"id": u["id"], "externalId": "L0958", "userName": "nquist", "displayName": "Nora Quist",
				"name": map[string]any{"givenName": "Nora", "familyName": "Quist"}, "emails": NewUser("", "", "", "", "", "nora.quist@larkspur.example")["emails"]})
		case "L0958":
			remove = append(remove, fmt.Sprint(u["id"]))
		}
	}
	return put, remove
}

// managerNo is the staff number of their manager.
func (p Person) managerNo() string {
	rdn, _, _ := strings.Cut(p.Manager, ",")
	return strings.TrimPrefix(rdn, "employeeNumber=")
}

// CSV writes the people as an export of the directory; broken has a comma in
// one row that nobody quoted.
func (w *World) CSV(broken bool) string {
	var b strings.Builder
	c := csv.NewWriter(&b)
	_ = c.Write([]string{"staff_no", "given_name", "family_name", "mail", "job_title", "department", "site", "status", "employment", "end_date", "manager_no", "home_mail"})
	for _, p := range w.People {
		if broken && p.No == "L0200" {
			c.Flush()
			fmt.Fprintf(&b, "%s,%s,%s,%s,Cook, pastry,%s,%s,%s,%s,%s,%s,%s\n", p.No, p.Given, p.Family, p.Mail, p.Department, p.Site, p.Status, p.Employment, p.End, p.managerNo(), p.homeMail())
			continue
		}
		_ = c.Write([]string{p.No, p.Given, p.Family, p.Mail, p.Title, p.Department, p.Site, p.Status, p.Employment, p.End, p.managerNo(), p.homeMail()})
	}
	c.Flush()
	return b.String()
}
