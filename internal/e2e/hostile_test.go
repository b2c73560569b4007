package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"twinning/internal/connector/outbound"
	"twinning/internal/standin/directory"
	"twinning/internal/standin/mailbox"
	"twinning/internal/standin/scimapp"
)

// everything is all that the service keeps or has said, as one text: the database but for what
// is encrypted, the logs and files of its folder, and what it exports of a lane.
func (r *rig) everything(lanes ...string) string {
	r.t.Helper()
	ctx := context.Background()
	var all strings.Builder
	tables, err := r.db.Query(ctx, `SELECT table_name FROM information_schema.tables WHERE table_schema = 'public' AND table_type = 'BASE TABLE'`)
	require.NoError(r.t, err)
	var names []string
	for tables.Next() {
		var name string
		require.NoError(r.t, tables.Scan(&name))
		names = append(names, name)
	}
	require.NoError(r.t, tables.Err())
	require.Greater(r.t, len(names), 30)
	for _, name := range names {
		fmt.Fprintln(&all, r.scan(`SELECT coalesce(string_agg(row_to_json(x)::text, E'\n'), '') FROM "`+name+`" x`))
	}
	require.NoError(r.t, filepath.WalkDir(filepath.Join(r.dir, "node"), func(path string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			text, failed := os.ReadFile(path)
			all.Write(text)
			err = failed
		}
		return err
	}))
	all.WriteString(r.node.log.String())
	for _, args := range [][]string{{"audit", "list", "-o", "json"}, {"task", "list", "-o", "json"}} {
		all.WriteString(r.any(args...))
	}
	for _, lane := range lanes {
		for run := range strings.FieldsSeq(r.scan(`SELECT coalesce(string_agg(r.id::text, ' '), '') FROM runs r JOIN plans p ON p.id = r.plan_id JOIN lanes l ON l.id = p.lane_id WHERE l.name = $1`, lane)) {
			all.WriteString(r.any("run", "receipts", run, "-o", "json") + r.any("run", "export", run) + r.any("run", "show", run))
		}
		all.WriteString(r.any("delivery", "list", lane, "-o", "json") + r.any("finding", "list", lane, "-o", "json"))
	}
	return all.String()
}

// holdsNone demands that no secret stands in a text, in whatever form it may be said back.
func holdsNone(t *testing.T, text string, secrets ...string) {
	t.Helper()
	require.NotEmpty(t, secrets)
	for _, secret := range secrets {
		cleared := outbound.NewClearer(secret).Text(text)
		if cleared != text {
			at := 0
			for at < len(cleared) && cleared[at] == text[at] {
				at++
			}
			require.Fail(t, "a secret was kept or said", "%q stands in: …%s…", secret, text[max(0, at-200):min(len(text), at+200)])
		}
	}
}

const hostilePeople = "L1,1,Nova,Kester,nova@larkspur.example,A,Optics\nL2,2,Idris,Vale,idris@larkspur.example,A,Optics\nL3,3,Gita,Lund,gita@larkspur.example,A,Dome\n"

const hostileRules = `lane: LANE
people: {from: HQ}
accounts: {in: APP}
mark: person.id
pairing: {keys: [{name: number, person: person.id, account: account.externalId}]}
attributes: {userName: {value: "'n' + person.employeeNumber", rule: once}, givenName: person.givenName, familyName: person.familyName, department: person.department}
emails: {primary: person.email, rule: once}
secrets: {to: person.email, by: [file], at-create: true}
guards: {roster-drop: 100%, coverage-drop: 100%}
`

// An application that answers with whatever it likes: nobody's account but those of a plan is
// touched, none is bound to anybody by an answer, and the night after, with the application in its
// right mind, everybody has the one account that is theirs.
func TestHostileApplication(t *testing.T) {
	r := newRig(t, "--lease 3s")
	r.write("phrase", "four goats and a lantern\n")
	for name, wrong := range map[string]scimapp.Misbehaviour{
		"the id of an account that is known": {AnswerID: "root-admin"},
		"the id of somebody's account":       {AnswerID: "a-idris"},
		"an id that nobody knows":            {AnswerID: "zz-nobody"},
		"another's mark":                     {AnswerMark: "L2"},
		"another user's values":              {GetAnother: true},
		"lists without end":                  {Endless: true},
		"what it was told":                   {SayBack: true},
		"what it was told, in refusals":      {SayBack: true, RefuseAll: true},
		"everything at once":                 {SayBack: true, AnswerID: "root-admin", AnswerMark: "L2", GetAnother: true},
	} {
		t.Run(name, func(t *testing.T) {
			r := r.in(t)
			person := func(id, no, login, given, family, dept string) map[string]any {
				u := user(no, login, given, family, true)
				u["id"] = id
				u["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"] = map[string]any{"department": dept}
				return u
			}
			lane, app, _ := r.lane(hostilePeople, hostileRules,
				person("root-admin", "", "root", "Root", "Admin", "Night"), person("a-idris", "L2", "n2", "Idris", "Vale", "Basement"), person("a-gita", "L3", "n3", "Gita", "Lund", "Dome"))
			secret := "token"
			if wrong.SayBack { // one that is no word, and is looked for in values too
				secret = "a-token-of-moonlight-77"
				app.SetToken(secret)
				r.write("token", secret)
				r.twinning(0, "system", "put", r.down, "--kind", "scim", "--set", "url="+r.setting(r.down, "url")+",timeout=1", "--secret-file", filepath.Join(r.dir, "token"))
			}
			app.Misbehave(wrong)
			r.any("roster", "take", r.down)
			plan := r.drafted(lane)
			r.seal(0, plan)
			r.any("plan", "run", plan)
			r.any("plan", "verify", plan)
			touched := func() (list []string) {
				for name := range app.Effects().ByAccount {
					list = append(list, name)
				}
				slices.Sort(list)
				return list
			}
			require.Subset(t, []string{"n1", "n2"}, touched(), "the plan is about these two")
			require.Subset(t, []string{"L1=" + idOf(app, "n1"), "L1=zz-nobody", "L2=a-idris", "L3=a-gita"}, strings.Fields(r.bonds(lane)), "an id that is nobody's may be the new account's")
			if wrong.SayBack {
				heard := app.Heard()
				require.Contains(t, heard, secret)
				holdsNone(t, r.everything(lane), heard...)
			}

			app.Misbehave(scimapp.Misbehaviour{})
			for range 3 {
				r.twinning(0, "roster", "take", r.down)
				r.any("reconcile", lane)
				for number := range strings.FieldsSeq(r.scan(`SELECT coalesce(string_agg(c.number::text, ' '), '') FROM receipts c JOIN runs x ON x.id = c.run_id JOIN plans p ON p.id = x.plan_id WHERE p.id = $1 AND c.outcome IN ('in-doubt', 'waiting')`, plan)) {
					r.any("run", "settle", r.scan(`SELECT max(id)::text FROM runs WHERE plan_id = $1`, plan), number, "not-done", "--reason", "looked")
				}
				if out := r.any("plan", "draft", lane); !strings.Contains(out, ": draft, ") {
					break
				}
				plan = r.scan(`SELECT max(id)::text FROM plans`)
				r.seal(0, plan)
				r.any("plan", "run", plan)
			}
			require.Equal(t, []string{"n1", "n2"}, touched())
			byMark := map[string][]string{}
			for _, u := range app.Users() {
				dept, _ := u["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"].(map[string]any)
				mark, _ := u["externalId"].(string)
				byMark[mark] = append(byMark[mark], fmt.Sprint(u["userName"], " ", dept["department"]))
			}
			require.Equal(t, map[string][]string{"": {"root Night"}, "L1": {"n1 Optics"}, "L2": {"n2 Optics"}, "L3": {"n3 Dome"}}, byMark)
			if wrong.AnswerID == "zz-nobody" { // it has never been seen: a human is asked
				require.Contains(t, r.twinning(0, "finding", "list", lane, "--code", "bond-broken"), "zz-nobody")
				r.twinning(0, "twin", "rule", lane, "same", "--person", "L1", "--account", idOf(app, "n1"), "--reason", "looked")
			}
			require.Subset(t, []string{"L1=" + idOf(app, "n1"), "L2=a-idris", "L3=a-gita"}, strings.Fields(r.bonds(lane)))
			require.Equal(t, 1, app.Effects().Creates)
		})
	}
}

// idOf is the id of the user of a name; "" where there is none.
func idOf(app *scimapp.App, name string) string {
	for _, u := range app.Users() {
		if u["userName"] == name {
			return u["id"].(string)
		}
	}
	return ""
}

// A directory and a mail server that say back what they were told, refuse, swap entries and never
// come to an end: no secret is kept or said, and no entry but that of the plan is touched.
func TestHostileDirectoryAndMailServer(t *testing.T) {
	const suffix = "dc=larkspur,dc=example"
	tree := "dn: ou=people," + suffix + "\nobjectClass: organizationalUnit\nou: people\n\n"
	for _, e := range []string{"n2 L2 Idris Vale", "n3 L3 Gita Lund", "root - Root Admin"} {
		f := strings.Fields(e)
		tree += fmt.Sprintf("dn: uid=%[1]s,ou=people,%[5]s\nobjectClass: inetOrgPerson\nuid: %[1]s\ncn: %[3]s\nsn: %[4]s\ngivenName: %[3]s\nmail: %[1]s@larkspur.example\ntitle: Keeper\ndepartmentNumber: Dome\n", f[0], f[1], f[2], f[3], suffix)
		if f[1] != "-" {
			tree += "employeeNumber: " + f[1] + "\n"
		}
		tree += "\n"
	}
	server, err := directory.Start(context.Background(), directory.Config{Dir: dataDir(t), Plain: true}, tree)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Stop()) })
	ca, err := os.ReadFile(server.CAFile)
	require.NoError(t, err)
	relay, err := server.Relay()
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, relay.Stop()) })
	mail, err := mailbox.Start(dataDir(t))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, mail.Stop()) })
	t.Setenv("TWINNING_MAIL_SECRET", mailbox.Secret)
	r := newRig(t, fmt.Sprintf("--lease 3s --mail %s --mail-from twinning@larkspur.example --mail-ca %s", strings.Replace(mail.URL, "://", "://"+mail.User+"@", 1), mail.CAFile))
	r.write("secret", directory.Secret)
	r.twinning(0, "system", "put", "hq", "--kind", "file", "--set", "path="+r.write("hq.csv", "id,no,given,family,mail,active,dept,home\n"+strings.NewReplacer("nova@larkspur.example,A,Optics\n", "nova@larkspur.example,A,Optics,nova1@home.example\n", "Optics\n", "Optics,idris4@home.example\n", "Dome\n", "Dome,\n").Replace(hostilePeople)), "--shape", r.write("people.yaml", strings.Replace(peopleShape, "dept}", "dept, personalEmail: home}", 1)))
	r.twinning(0, "system", "put", "tree", "--kind", "ldap", "--secret-file", r.dir+"/secret",
		"--set", fmt.Sprintf("url=%s,ca-file=%s,bind=%s,base=ou=people,%s,timeout=2,page=2", relay.URL, r.write("ca.pem", string(ca)), server.Admin(), suffix),
		"--shape", r.write("tree.yaml", "shape: {id: entryUUID, userName: uid, givenName: givenName, familyName: sn, displayName: cn, title: title, email: mail, employeeNumber: employeeNumber, department: departmentNumber}\nmark: employeeNumber\nclasses: [inetOrgPerson]\n"))
	r.twinning(0, "system", "open", "tree")
	r.twinning(0, "roster", "take", "hq")
	r.twinning(0, "roster", "take", "tree")
	r.twinning(0, "charter", "put", r.write("charter.yaml", `lane: tree
people: {from: hq}
accounts: {in: tree}
mark: person.id
pairing: {keys: [{name: number, person: person.id, account: account.employeeNumber}]}
attributes: {userName: {value: "'n' + person.employeeNumber", rule: once}, givenName: {value: person.givenName, rule: once}, familyName: {value: person.familyName, rule: once}, displayName: {value: person.givenName, rule: once}, department: person.department}
emails: {primary: person.email, rule: once}
secrets: {to: person.personalEmail, by: [mail, file]}
guards: {reissue: {more-than: 100}, roster-drop: 100%, coverage-drop: 100%}
`))
	entry := func(uid string) string {
		found, err := bound(t, server).Search(ldap.NewSearchRequest(suffix, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, "(uid="+uid+")", []string{"entryUUID", "uid", "cn", "sn", "mail", "title", "employeeNumber", "departmentNumber"}, nil))
		require.NoError(t, err)
		require.Len(t, found.Entries, 1)
		var lines []string
		for _, a := range found.Entries[0].Attributes {
			lines = append(lines, a.Name+" "+strings.Join(a.Values, "; "))
		}
		slices.Sort(lines)
		return strings.Join(lines, "\n")
	}
	root, gita := entry("root"), entry("n3")
	relay.Behave(directory.Misbehaviour{Endless: true})
	require.Contains(t, r.any("roster", "take", "tree"), "pages came without an entry")
	uuid := regexp.MustCompile(`entryUUID (\S+)`).FindStringSubmatch(root)[1]
	for _, wrong := range []directory.Misbehaviour{{EntryID: uuid}, {SayBack: true, Refuse: true}, {SayBack: true}} {
		relay.Behave(wrong)
		mail.Behave(mailbox.Misbehaviour{RefuseText: true, SayBack: true})
		r.any("roster", "take", "tree")
		r.any("reconcile", "tree")
		if out := r.any("plan", "draft", "tree"); strings.Contains(out, ": draft, ") {
			plan := r.scan(`SELECT max(id)::text FROM plans`)
			r.seal(0, plan)
			r.any("plan", "run", plan)
		}
		r.any("account", "reissue", "tree", "--person", "L2,L3", "--reason", "lost it")
		plan := r.scan(`SELECT max(id)::text FROM plans`)
		if r.scan(`SELECT state FROM plans WHERE id = `+plan) == "draft" {
			r.seal(0, plan)
			r.any("plan", "run", plan)
			r.any("plan", "verify", plan)
		}
		require.Equal(t, root, entry("root"), "%+v", wrong)
		require.Equal(t, gita, entry("n3"), "%+v", wrong)
	}
	heard := append(relay.Heard(), mailbox.Secret)
	require.Contains(t, heard, directory.Secret)
	require.Greater(t, len(heard), 2, "new secrets were set")
	holdsNone(t, r.everything("tree"), heard...)
}

// setting is one of a system's.
func (r *rig) setting(system, name string) string {
	return r.scan(`SELECT settings->>$2 FROM systems WHERE name = $1`, system, name)
}
