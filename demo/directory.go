package demo

import (
	_ "embed"
	"encoding/base64"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"twinning/internal/core/record"
)

// Where the people of hq are.
const (
	HQSuffix         = "dc=larkspur,dc=example"
	HQPeople         = "ou=people," + HQSuffix
	CandlewickSuffix = "dc=candlewick,dc=example"
)

// HQSchema is what the house added to the standard classes.
const HQSchema = `attributetype ( 1.3.6.1.4.1.4203.666.1.911 NAME 'larkspurStatus' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 SINGLE-VALUE )
attributetype ( 1.3.6.1.4.1.4203.666.1.912 NAME 'larkspurEnds' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 SINGLE-VALUE )
attributetype ( 1.3.6.1.4.1.4203.666.1.914 NAME 'larkspurHomeMail' EQUALITY caseIgnoreIA5Match SYNTAX 1.3.6.1.4.1.1466.115.121.1.26 SINGLE-VALUE )
objectclass ( 1.3.6.1.4.1.4203.666.1.913 NAME 'larkspurPerson' SUP top AUXILIARY MAY ( larkspurStatus $ larkspurEnds $ larkspurHomeMail ) )`

// CandlewickSchema has a second address, and nothing else of its own.
const CandlewickSchema = `attributetype ( 1.3.6.1.4.1.4203.666.1.921 NAME 'mailLocalAddress' EQUALITY caseIgnoreIA5Match SYNTAX 1.3.6.1.4.1.1466.115.121.1.26 )
objectclass ( 1.3.6.1.4.1.4203.666.1.922 NAME 'arrayPerson' SUP top AUXILIARY MAY ( mailLocalAddress ) )`

// DN is where the person stands in hq.
func (p Person) DN() string { return "employeeNumber=" + p.No + "," + HQPeople }

// Natives are the person's attributes as hq keeps them.
func (p Person) Natives() map[string]string {
	n := map[string]string{
		"employeeNumber": p.No, "givenName": p.Given, "sn": p.Family, "cn": strings.TrimSpace(p.Given + " " + p.Family), "mail": p.Mail, "title": p.Title,
		"departmentNumber": p.Department, "l": p.Site, "larkspurStatus": p.Status, "employeeType": p.Employment, "larkspurEnds": p.End, "manager": p.Manager, "telephoneNumber": p.Phone, "larkspurHomeMail": p.homeMail(),
	}
	maps.DeleteFunc(n, func(_, v string) bool { return v == "" })
	return n
}

// homeMail is the private address that most of those on the payroll have told.
func (p Person) homeMail() string {
	if p.Employment != "staff" || strings.HasSuffix(p.No, "7") || p.Given == "" {
		return ""
	}
	return record.Slug(p.Given) + strings.TrimLeft(strings.ToLower(p.No), "l0") + "@home.example"
}

// LDIF is hq as a directory.
func (w *World) LDIF() string {
	var b strings.Builder
	branch(&b, HQSuffix, "people", "groups", "instruments")
	for _, p := range w.People {
		entry(&b, p.DN(), []string{"inetOrgPerson", "larkspurPerson"}, p.Natives())
	}
	// what is no person is not read: it stands in another branch
	for _, rig := range []string{"north", "south", "spectro"} {
		entry(&b, "cn=rig-"+rig+",ou=instruments,"+HQSuffix, []string{"device"}, map[string]string{"cn": "rig-" + rig, "serialNumber": "LO-" + rig})
	}
	return b.String()
}

func branch(b *strings.Builder, suffix string, names ...string) {
	for _, ou := range names {
		entry(b, "ou="+ou+","+suffix, []string{"organizationalUnit"}, map[string]string{"ou": ou})
	}
}

func entry(b *strings.Builder, dn string, classes []string, values map[string]string) {
	line := func(name, v string) {
		if safe(v) {
			fmt.Fprintf(b, "%s: %s\n", name, v)
		} else {
			fmt.Fprintf(b, "%s:: %s\n", name, base64.StdEncoding.EncodeToString([]byte(v)))
		}
	}
	line("dn", dn)
	for _, c := range classes {
		line("objectClass", c)
	}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		line(name, values[name])
	}
	b.WriteString("\n")
}

func safe(v string) bool {
	return utf8.RuneCountInString(v) == len(v) && !strings.ContainsAny(v, "\r\n\x00") && v != "" && !strings.ContainsRune(" :<", rune(v[0])) && !strings.HasSuffix(v, " ")
}

// Candlewick is the directory of the radio array: 64 people at two stations,
// nine of whom work for the observatories already.
func Candlewick(hq *World) string {
	var b strings.Builder
	branch(&b, CandlewickSuffix, "array", "correlator", "groups")
	stations := []string{"array", "correlator"}
	boss := [2]string{}
	for i := range 64 {
		name, last := given[(i*11+3)%len(given)], family[(i*5+1)%len(family)]
		if i%7 == 6 { // also at the observatories
			p := hq.People[i*5]
			name, last = p.Given, p.Family
		}
		uid := record.Slug(name) + "." + record.Slug(last)
		station := stations[i%2]
		dn := "uid=" + uid + ",ou=" + station + "," + CandlewickSuffix
		values := map[string]string{
			"uid": uid, "givenName": name, "sn": last, "cn": name + " " + last, "mail": uid + "@candlewick.example", "title": []string{"Array operator", "Receiver engineer", "Correlator scientist"}[i%3],
			"ou": station, "uidNumber": fmt.Sprint(20000 + i), "gidNumber": "20000", "homeDirectory": "/home/" + uid, "loginShell": "/bin/bash",
		}
		if boss[i%2] == "" {
			boss[i%2] = dn
		} else {
			values["manager"] = boss[i%2]
		}
		if i%9 == 4 {
			values["mailLocalAddress"] = record.Slug(last) + fmt.Sprint(i) + "@candlewick.example"
		}
		if i%13 == 12 { // left; the account stays, with a shell that lets nobody in
			values["loginShell"], values["shadowExpire"] = "/usr/sbin/nologin", fmt.Sprint(20300+i)
		}
		// where there is no telephone, there is nothing but the name: a namesake, perhaps
		if phone := hq.People[i*5%len(hq.People)].Phone; i%7 == 6 && i%2 == 0 && phone != "" {
			values["telephoneNumber"] = phone
		}
		entry(&b, dn, arrayClasses, values)
	}
	traps(&b, hq)
	return b.String()
}

var arrayClasses = []string{"inetOrgPerson", "posixAccount", "shadowAccount", "arrayPerson"}

// traps are accounts that resemble people of the observatories: some are
// theirs, under another name or spelling, and some are somebody else's.
func traps(b *strings.Builder, hq *World) {
	person := func(no string) Person {
		return hq.People[slices.IndexFunc(hq.People, func(p Person) bool { return p.No == no })]
	}
	n := 0
	put := func(uid, name, family, mail, phone, number, station string, active bool) {
		n++
		values := map[string]string{
			"uid": uid, "cn": strings.TrimSpace(name + " " + family), "sn": family, "mail": mail, "title": "Array operator", "ou": station,
			"uidNumber": fmt.Sprint(21000 + n), "gidNumber": "20000", "homeDirectory": "/home/" + uid, "loginShell": "/bin/bash", "telephoneNumber": phone, "employeeNumber": number,
		}
		if name != "" {
			values["givenName"] = name
		}
		if !active {
			values["loginShell"] = "/usr/sbin/nologin"
		}
		maps.DeleteFunc(values, func(_, v string) bool { return v == "" })
		entry(b, "uid="+uid+",ou="+station+","+CandlewickSuffix, arrayClasses, values)
	}
	at := func(local string) string { return local + "@candlewick.example" }
	// theirs: a short form, another script and spelling, a name from before a marriage
	jose := person("L0086")
	put("pepe", "Pepe", jose.Family, at("pepe"), jose.Phone, "", "array", true)
	put("nsorokina", "Nadezhda", "Sorokina", at("n.sorokina"), person("L0901").Phone, "", "correlator", true)
	put("epapadaki", "Eleni", "Papadhaki", at("eleni.papadhaki"), person("L0902").Phone, "", "correlator", true)
	put("cvidal", "Carla", "Vidal", at("carla.vidal"), person("L0950").Phone, "", "array", true)
	// a second account of somebody who has one by her number
	lena := person("L0954")
	put("lbrandt", "Lena", "Brandt", at("lena.brandt"), lena.Phone, lena.No, "array", true)
	put("lena", "Lena", "Brandt", at("lena"), lena.Phone, "", "correlator", true)
	// husband and wife, and brother and sister, at one telephone
	put("tcarrasco", "Teresa", "Carrasco", at("teresa.carrasco"), person("L0927").Phone, "", "array", true)
	samir := person("L0957")
	put("shaddad", "Samira", "Haddad", at("samira.haddad"), samir.Phone, "", "array", true)
	// a father whose son, of the same name, lives in his house
	put("orantala", "Okko Pekka", "Rantala", at("okko.rantala"), person("L0914").Phone, "A0077", "array", true)
	// hired again: a new number at the observatories, and an account that was shut
	put("rfalk", "Rita", "Falk", at("rita.falk"), "", "L9956", "array", false)
	// who left candlewick long ago and resembles somebody who is here: asked, as a rehire would be
	put("nquiest", "Nora", "Quiest", at("nora.quiest"), "", "A0101", "correlator", false)
	// candlewick counts for itself: its number is a staff number of somebody else
	kofi := person("L0953")
	put("kasante", "Kofi", "Asante", at("kofi.asante"), kofi.Phone, "L0333", "array", true)
	// a service account that carries its owner's address, and a role called like a person
	put("array-backup", "", "Array backup", person("L0940").Mail, "", "", "correlator", true)
	put("rosa", "", "Rosa Correlator", at("rosa"), "", "", "correlator", true)
}

// NightLog are the accounts that the observing log made by itself, at the first
// sign-in of each person.
func NightLog(hq *World) (users []User) {
	for i, p := range hq.People {
		if i%3 != 0 || p.Mail == "" || p.Employment == "service" {
			continue
		}
		login, _, _ := strings.Cut(p.Mail, "@")
		u := NewUser(fmt.Sprintf("n%05d", i+1), "", login, p.Given, p.Family, p.Mail)
		if i%36 == 3 { // signed in before their address changed
			u["userName"] = record.Slug(p.Family) + fmt.Sprint(i)
		}
		if i == 60 || i == 120 {
			u["roles"] = []any{map[string]any{"value": "admin"}}
		}
		if i%36 == 0 { // who leads others keeps something that is there once
			u["entitlements"] = []any{map[string]any{"value": fmt.Sprintf("plate-archive-%d", i/36)}}
		}
		users = append(users, u)
	}
	return users
}

// NightLogGroups are the groups of the observing log, with the ids of who is in them.
func NightLogGroups(hq *World) map[string][]string {
	groups := map[string][]string{"observers": nil, "photometry": nil, "archive": nil, "legal-hold": nil}
	for i, u := range NightLog(hq) {
		id := fmt.Sprint(u["id"])
		switch {
		case i%5 == 0:
			groups["observers"] = append(groups["observers"], id)
		case i%17 == 1:
			groups["archive"] = append(groups["archive"], id)
		case i%41 == 2:
			groups["legal-hold"] = append(groups["legal-hold"], id)
		case i%11 == 3:
			groups["photometry"] = append(groups["photometry"], id)
		}
	}
	return groups
}

// MailGate is the gateway's list: everybody with an address, but for a few whom
// nobody has entered yet, and two boxes that nobody owns.
func MailGate(hq *World) string {
	var b strings.Builder
	b.WriteString("#mail-gate 3\r\nBox;Staff;Name;Address;State\r\n")
	met := map[string]bool{}
	for i, p := range hq.People {
		box, _, ok := strings.Cut(p.Mail, "@")
		if !ok || met[box] || i%21 == 20 || p.Employment == "service" || strings.Count(p.Mail, "@") > 1 {
			continue
		}
		met[box] = true
		fmt.Fprintf(&b, "%s;%s;%s;%s;on\r\n", box, p.No, strings.TrimSpace(p.Given+" "+p.Family), p.Mail)
	}
	b.WriteString("open-night;;Open night;open-night@larkspur.example;on\r\nlost-keys;;Lost keys;lost-keys@larkspur.example;on\r\n")
	return b.String()
}
