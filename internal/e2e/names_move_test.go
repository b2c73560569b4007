package e2e

import (
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"twinning/internal/standin/directory"
	"twinning/internal/standin/scimapp"
)

const movingRules = `lane: LANE
people: {from: HQ}
accounts: {in: APP}
mark: person.id
pairing: {keys: [{name: number, person: person.id, account: account.MARK}]}
attributes:
  userName: {candidates: [local(person.email)], rule: own}
  givenName: person.givenName
  familyName: person.familyName
  displayName: "person.givenName + ' ' + person.familyName"
emails: {primary: person.email, rule: own, former: keep}
names: {between: between.larkspur.example}
leavers: {hand-over: {to: "'L904'"}, stages: [{after: 0d, do: [hand-over]}]}
guards: {rename: {more-than: 500}, readdress: {more-than: 500}, roster-drop: 100%, coverage-drop: 100%}
`

// moves are people whose names move: pairs who swap, somebody who marries, somebody whose
// address goes on to a newcomer, and somebody who leaves and whose address is handed over.
type moves struct {
	pairs   int
	drafted func(plan string) // before it runs; nil: nothing
}

func (m moves) people(moved bool) string {
	var b strings.Builder
	status := "A"
	line := func(id int, family, mail string) {
		fmt.Fprintf(&b, "L%03d,%d,Nova,%s,%s@larkspur.example,%s,Ops\n", id, id, family, mail, status)
	}
	line(904, "Heir", "nova.heir")
	for i := range 2 * m.pairs {
		mail := i
		if moved {
			mail = i ^ 1
		}
		line(i, fmt.Sprintf("Kester%c%c", 'a'+i/26, 'a'+i%26), fmt.Sprintf("n%d", mail))
	}
	if moved {
		status = "L"
	}
	line(903, "Gone", "nova.gone")
	status = "A"
	if !moved {
		line(900, "Falk", "nova.falk")
		line(901, "Noe", "nova.noe")
		return b.String()
	}
	line(900, "Kern", "nova.kern")
	line(901, "Noe", "nova.noe-south")
	line(902, "Noe", "nova.noe")
	return b.String()
}

// wanted is who has which address in the end.
func (m moves) wanted() map[string]string {
	owner := map[string]string{"nova.kern": "L900", "nova.noe-south": "L901", "nova.noe": "L902", "nova.heir": "L904"}
	for i := range 2 * m.pairs {
		owner[fmt.Sprintf("n%d", i)] = fmt.Sprintf("L%03d", i^1)
	}
	return owner
}

// move has the lane's names move, with the service killed so often on the way.
func (r *rig) move(name string, m moves, kills int) {
	r.t.Helper()
	r.list(m.people(true))
	r.twinning(0, "roster", "take", r.down)
	plan := r.drafted(name)
	if m.drafted != nil {
		m.drafted(plan)
	}
	r.seal(0, plan)
	r.twinning(0, "plan", "run", plan, "--no-wait")
	if kills > 0 {
		rng := rand.New(rand.NewPCG(20261127, 1))
		r.killed(kills, func() time.Duration { return time.Duration(100+rng.IntN(300)) * time.Millisecond })
	}
	require.Eventually(r.t, func() bool { return strings.Contains(r.twinning(0, "plan", "list", name), "finished") }, 3*time.Minute, 200*time.Millisecond)
	require.NotContains(r.t, r.twinning(0, "run", "receipts", "1", "--bad", "-o", "json"), `"outcome": "`)
	require.Contains(r.t, r.twinning(0, "plan", "verify", plan), " confirmed, 0 not")
	r.twinning(0, "roster", "take", r.down)
	require.Contains(r.t, r.any("reconcile", name), "[exit 0]", "nothing is left to do")
}

// cutOver has everybody leave a domain, on a day that has come.
func (r *rig) cutOver(name, rules string) {
	r.t.Helper()
	rules = strings.Replace(rules, "primary: person.email", "primary: \"local(person.email) + (today < '2026-11-01' ? '@larkspur.example' : '@observers.example')\"", 1)
	rules = strings.Replace(rules, "candidates: [local(person.email)], rule: own", "candidates: [local(person.email)], rule: once", 1)
	r.twinning(0, "charter", "put", r.write("after.yaml", rules))
	plan := r.drafted(name)
	r.seal(0, plan)
	r.twinning(0, "plan", "run", plan)
	require.Contains(r.t, r.twinning(0, "plan", "verify", plan), " confirmed, 0 not")
	r.twinning(0, "roster", "take", r.down)
	require.Contains(r.t, r.any("reconcile", name), "[exit 0]", "nothing is left to do")
}

// Names move in a directory that lets no two entries have one, also when the service is
// killed again and again on the way.
func TestNamesMoveInADirectory(t *testing.T) {
	const suffix = "dc=larkspur,dc=example"
	m := moves{pairs: 15}
	tree := fmt.Sprintf("dn: ou=people,%s\nobjectClass: organizationalUnit\nou: people\n\n", suffix)
	for line := range strings.Lines(m.people(false)) {
		f := strings.Split(strings.TrimSpace(line), ",")
		login, _, _ := strings.Cut(f[4], "@")
		tree += fmt.Sprintf("dn: uid=%[1]s,ou=people,%[2]s\nobjectClass: inetOrgPerson\nuid: %[1]s\ncn: Nova %[3]s\nsn: %[3]s\ngivenName: Nova\nmail: SMTP:%[4]s\nmail: x400:c=CL;a=%[1]s\nemployeeNumber: %[5]s\n\n", login, suffix, f[3], f[4], f[0])
	}
	r := newRig(t, "--lease 3s")
	both := r.twins(directory.Config{}, tree)
	server := both.run
	m.drafted = func(plan string) {
		text := both.plays(plan)
		account := r.scan(`SELECT min(account) FROM changes WHERE person = 'L000' AND plan_id = ` + plan)
		lost := func(from, to string) {
			require.Equal(t, to, r.scan(fmt.Sprintf(`UPDATE records SET native_id = '%s' WHERE native_id = '%s' RETURNING native_id`, to, from)))
		}
		lost(account, "nobody")
		without := strings.Join(strings.Fields(strings.ReplaceAll(r.twinning(0, "plan", "export", plan, "--format", "ldif"), "\n#", "")), " ")
		lost("nobody", account)
		require.Contains(t, without, fmt.Sprintf("does not show account %q", account))
		require.Contains(t, without, "with which it is done together or not at all, is not here", "nobody is left with half of a swap")
		require.NotContains(t, without, "dn: uid=n0,")
		require.NotContains(t, without, "dn: uid=n1,")
		require.Equal(t, strings.Count(text, "\ndn: uid=n2,"), strings.Count(without, " dn: uid=n2,"))
	}
	r.write("secret", directory.Secret)
	ca, err := os.ReadFile(server.CAFile)
	require.NoError(t, err)
	r.people, r.down = "hq", "tree"
	csv := r.write("hq.csv", columns+m.people(false))
	r.twinning(0, "system", "put", "hq", "--kind", "file", "--set", "path="+csv, "--shape", r.write("people.yaml", peopleShape))
	r.twinning(0, "system", "put", "tree", "--kind", "ldap", "--per-second", "120", "--secret-file", r.dir+"/secret",
		"--set", fmt.Sprintf("url=%s,ca-file=%s,bind=%s,base=ou=people,%s,timeout=2", server.URL, r.write("ca.pem", string(ca)), server.Admin(), suffix),
		"--shape", r.write("tree.yaml", "shape: {id: entryUUID, userName: uid, givenName: givenName, familyName: sn, displayName: cn, email: {from: mail, prefix: 'SMTP:'}, aliases: {from: mail, prefix: 'smtp:'}, employeeNumber: employeeNumber}\nmark: employeeNumber\nclasses: [inetOrgPerson]\nstable: true\n"))
	r.twinning(0, "system", "open", "tree")
	r.twinning(0, "roster", "take", "hq")
	r.twinning(0, "roster", "take", "tree")
	rules := strings.NewReplacer("LANE", "tree", "HQ", "hq", "APP", "tree", "MARK", "employeeNumber").Replace(movingRules)
	r.twinning(0, "charter", "put", r.write("charter.yaml", rules))
	r.move("tree", m, 6)
	both.alike() // temporary names and all, the plan's change records do the same
	c := bound(t, server)
	entry := func(filter string) *ldap.Entry {
		res, err := c.Search(ldap.NewSearchRequest(suffix, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, filter, []string{"employeeNumber", "mail"}, nil))
		require.NoError(t, err)
		require.Len(t, res.Entries, 1, filter)
		return res.Entries[0]
	}
	for name, owner := range m.wanted() {
		e := entry(fmt.Sprintf("(|(mail=SMTP:%s@larkspur.example)(uid=%[1]s))", name))
		require.Equal(t, owner, e.GetAttributeValue("employeeNumber"), name)
		require.Contains(t, e.GetAttributeValues("mail"), "SMTP:"+name+"@larkspur.example")
	}
	for _, former := range []string{"nova.falk L900", "nova.gone L904"} { // beside the one that is theirs
		name, owner, _ := strings.Cut(former, " ")
		e := entry(fmt.Sprintf("(mail=smtp:%s@larkspur.example)", name))
		require.Equal(t, owner, e.GetAttributeValue("employeeNumber"))
		require.Contains(t, e.GetAttributeValues("mail"), "smtp:"+name+"@larkspur.example")
	}
	require.Equal(t, []string{"x400:c=CL;a=nova.gone"}, entry("(uid=nova.gone)").GetAttributeValues("mail"), "what is not ours stays")
	r.cutOver("tree", rules)
	for name, owner := range m.wanted() {
		e := entry(fmt.Sprintf("(mail=SMTP:%s@observers.example)", name))
		require.Equal(t, owner, e.GetAttributeValue("employeeNumber"), name)
		require.Contains(t, e.GetAttributeValues("mail"), "smtp:"+name+"@larkspur.example", "the former one stays")
	}
}

// The same over SCIM, where a former address stays as an alias unless it goes on.
func TestNamesMoveOverSCIM(t *testing.T) {
	m := moves{pairs: 5}
	app, err := scimapp.New("", "token")
	require.NoError(t, err)
	server := httptest.NewServer(app)
	t.Cleanup(server.Close)
	for line := range strings.Lines(m.people(false)) {
		f := strings.Split(strings.TrimSpace(line), ",")
		login, _, _ := strings.Cut(f[4], "@")
		u := user(f[0], login, "Nova", f[3], true)
		u["displayName"], u["emails"] = "Nova "+f[3], []any{map[string]any{"value": f[4], "primary": true, "type": "work"}}
		app.Put(u)
	}
	r := newRig(t, "")
	name := r.laneOf(server.URL, m.people(false), strings.ReplaceAll(movingRules, "MARK", "externalId"))
	app.Misbehave(scimapp.Misbehaviour{SlowMillis: 5, DropEvery: 7})
	r.move(name, m, 0)
	held := map[string][]string{}
	for _, u := range app.Users() {
		list, _ := u["emails"].([]any)
		for _, e := range list {
			local, _, _ := strings.Cut(fmt.Sprint(e.(map[string]any)["value"]), "@")
			held[local] = append(held[local], fmt.Sprint(u["externalId"]))
		}
		held["login "+fmt.Sprint(u["userName"])] = append(held["login "+fmt.Sprint(u["userName"])], fmt.Sprint(u["externalId"]))
	}
	for name, owner := range m.wanted() {
		require.Equal(t, []string{owner}, held[name], name)
		require.Equal(t, []string{owner}, held["login "+name], name)
	}
	require.Equal(t, []string{"L900"}, held["nova.falk"], "a former address stays as an alias")
	require.Equal(t, []string{"L904"}, held["nova.gone"], "an address is handed over")
	for name := range held {
		require.NotContains(t, name, "between-")
	}
	app.Misbehave(scimapp.Misbehaviour{})
	r.cutOver(name, strings.NewReplacer("LANE", name, "HQ", r.people, "APP", r.down, "MARK", "externalId").Replace(movingRules))
	for _, u := range app.Users() {
		list, _ := u["emails"].([]any)
		for _, e := range list {
			if e := e.(map[string]any); e["primary"] == true {
				require.True(t, strings.HasSuffix(fmt.Sprint(e["value"]), "@observers.example"), "%v", u)
			}
		}
	}
}
