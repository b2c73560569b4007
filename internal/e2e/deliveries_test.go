package e2e

import (
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"twinning/internal/standin/directory"
)

// Secrets are asked for in the console, leave over STARTTLS or wait for a file, and are told
// nowhere else: not on a page, nor by the API, nor in a log.
func TestSecretsAreHandedOver(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--address", h.url)
	p := h.signedIn()
	p.sees("hq-dome-booking")
	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking?view=deliveries"))
	p.sees("Nobody was sent a secret")
	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking?view=accounts&state=twinned&q=id:u00004"))
	p.until("document.querySelectorAll('[role=rowgroup] [role=row]').length === 1", "one account is found")
	p.do(chromedp.Focus("[role=rowgroup]"))
	p.types(" ")
	p.press("Act on 1 account…")
	p.fill("[role=dialog] select", "reissue")
	p.fill("[role=dialog] form label input", "lost it")
	p.press("Draft the plan")
	p.sees("a new one, by mail to diego4@home.example, vouched for by Ana Soto")
	p.accessible("a plan of secrets")
	h.seal(0, "3")
	require.Contains(t, h.twinning(0, "plan", "run", "3"), "1 done")
	h.twinning(0, "account", "reissue", "hq-dome-booking", "--person", "L0007,L0017", "--reason", "no address")
	h.seal(0, "4")
	require.Contains(t, h.twinning(0, "plan", "run", "4"), "2 done")
	letters := h.out.Mail.Letters()
	require.Len(t, letters, 1)
	require.True(t, letters[0].Secure)
	require.Equal(t, "diego4@home.example", letters[0].To)
	secret := regexp.MustCompile(`secret\s+(\S+)`).FindStringSubmatch(letters[0].Text)[1]
	require.Len(t, secret, 16)

	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking?view=deliveries"))
	p.sees("waits to be collected")
	p.sees("diego4@home.example")
	p.accessible("deliveries")
	p.shot("deliveries", false)
	p.press("Collect 2 secrets of run 4…")
	p.fill("[role=dialog] input", "password")
	p.press("Take the file")
	p.sees("too easy to guess")
	p.accessible("collecting secrets")
	require.Equal(t, "password", eval[string](p, "document.querySelector('[role=dialog] input').type"))
	p.press("Cancel")
	p.until("!document.querySelector('[role=dialog]')", "the dialog is closed")
	p.press("Collect 2 secrets of run 4…")
	require.Empty(t, eval[string](p, "document.querySelector('[role=dialog] input').value"), "the passphrase is forgotten")
	p.press("Cancel")

	file, phrase := filepath.Join(t.TempDir(), "secrets.age"), filepath.Join(t.TempDir(), "phrase")
	require.NoError(t, os.WriteFile(phrase, []byte("four goats and a lantern\n"), 0o600))
	require.Contains(t, h.twinning(1, "delivery", "collect", "4", "--out", filepath.Join(file, "not", "there"), "--passphrase-file", phrase), "nothing was collected")
	h.twinning(0, "delivery", "collect", "4", "--out", file, "--passphrase-file", phrase)
	kept := h.twinning(0, "delivery", "open", file, "--passphrase-file", phrase)
	require.Contains(t, kept, `"Greta Thorne","L0007","u00007","gthorne",`)
	require.Contains(t, h.twinning(1, "delivery", "collect", "4", "--out", file, "--passphrase-file", phrase), "no secret of run 4 waits")
	p.sees("collected by admin")

	for _, told := range [][]string{{"run", "export", "3"}, {"plan", "show", "3", "-o", "json"}, {"run", "receipts", "3", "-o", "json"}, {"delivery", "list", "hq-dome-booking", "-o", "json"}, {"audit", "list", "-o", "json"}, {"task", "list", "-o", "json"}} {
		require.NotContains(t, h.twinning(0, told...), secret)
	}
}

// A service that is killed while it gives people of a directory new secrets: whatever it hands
// over opens the account, each once, and what is not known is said to be in doubt.
func TestSecretsOfADirectory(t *testing.T) {
	const suffix, here, newcomers = "dc=larkspur,dc=example", 24, 6
	var tree, people strings.Builder
	fmt.Fprintf(&tree, "dn: ou=people,%s\nobjectClass: organizationalUnit\nou: people\n\n", suffix)
	for i := range here + newcomers {
		fmt.Fprintf(&people, "L%03d,%d,Nova,Kester%c%c,n%d@larkspur.example,A,Ops\n", i, i, 'a'+i/10, 'a'+i%10, i)
		if i < here {
			fmt.Fprintf(&tree, "dn: uid=n%[1]d,ou=people,%[2]s\nobjectClass: inetOrgPerson\nuid: n%[1]d\ncn: Nova\nsn: Kester%[3]c%[4]c\ngivenName: Nova\nmail: n%[1]d@larkspur.example\nemployeeNumber: L%03[1]d\n\n", i, suffix, 'a'+i/10, 'a'+i%10)
		}
	}
	server, err := directory.Start(context.Background(), directory.Config{Dir: dataDir(t), Plain: true}, tree.String())
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Stop()) })
	r := newRig(t, "--lease 3s")
	r.write("secret", directory.Secret)
	ca, err := os.ReadFile(server.CAFile)
	require.NoError(t, err)
	r.twinning(0, "system", "put", "hq", "--kind", "file", "--set", "path="+r.write("hq.csv", columns+people.String()), "--shape", r.write("people.yaml", peopleShape))
	r.twinning(0, "system", "put", "tree", "--kind", "ldap", "--per-second", "60", "--secret-file", r.dir+"/secret",
		"--set", fmt.Sprintf("url=%s,ca-file=%s,bind=%s,base=ou=people,%s,timeout=2", server.URL, r.write("ca.pem", string(ca)), server.Admin(), suffix),
		"--shape", r.write("tree.yaml", "shape: {id: entryUUID, userName: uid, givenName: givenName, familyName: sn, displayName: cn, email: mail, employeeNumber: employeeNumber, mustChange: description}\nmark: employeeNumber\nclasses: [inetOrgPerson]\n"))
	r.twinning(0, "system", "open", "tree")
	r.twinning(0, "roster", "take", "hq")
	r.twinning(0, "roster", "take", "tree")
	r.twinning(0, "charter", "put", r.write("charter.yaml", `lane: tree
people: {from: hq}
accounts: {in: tree}
mark: person.id
pairing: {keys: [{name: number, person: person.id, account: account.employeeNumber}]}
attributes: {userName: {value: "'n' + person.employeeNumber", rule: once}, givenName: person.givenName, familyName: person.familyName, displayName: {value: person.givenName, rule: once}}
emails: {primary: person.email, rule: once}
secrets: {by: [file], must-change: mustChange, at-create: true}
guards: {reissue: {more-than: 100}}
`))
	first := r.drafted("tree") // the newcomers
	r.seal(0, first)
	require.Contains(t, r.twinning(0, "plan", "run", first), "12 done")
	var accounts []string
	for i := range here {
		accounts = append(accounts, fmt.Sprintf("L%03d", i))
	}
	require.Contains(t, r.twinning(0, "account", "reissue", "tree", "--person", strings.Join(accounts, ","), "--reason", "all of them"), "24  reissue")
	plan := r.scan(`SELECT max(id)::text FROM plans`)
	r.seal(0, plan)
	r.twinning(0, "plan", "run", plan, "--no-wait")
	for range 4 {
		time.Sleep(150 * time.Millisecond)
		r.node.kill()
		r.node.start()
	}
	r.url = r.node.url
	r.twinning(0, "sign-in", "--address", r.url)
	for deadline := time.Now().Add(2 * time.Minute); r.scan(`SELECT state FROM plans WHERE id = `+plan) != "finished"; time.Sleep(300 * time.Millisecond) {
		require.True(t, time.Now().Before(deadline), r.any("task", "list"))
		r.any("plan", "run", plan, "--no-wait") // where it was halted
	}
	counts := r.scan(`SELECT string_agg(state || ' ' || n, ', ' ORDER BY state) FROM (SELECT state, count(*) AS n FROM deliveries GROUP BY 1) q`)
	t.Logf("deliveries: %s", counts)
	require.Equal(t, "0", r.scan(`SELECT count(*)::text FROM deliveries WHERE (secret IS NULL) = (state = 'kept')`), "a secret is there as long as somebody is to have it")
	require.Equal(t, "0", r.scan(`SELECT count(*)::text FROM deliveries d JOIN runs r ON r.id = d.run_id
		JOIN LATERAL (SELECT x.outcome FROM receipts x JOIN runs o ON o.id = x.run_id WHERE o.plan_id = r.plan_id AND x.number = d.number ORDER BY x.run_id DESC LIMIT 1) x ON true WHERE (x.outcome = 'done') <> (d.state = 'kept')`), "receipts say what became of them")

	phrase, opened := r.write("phrase", "four goats and a lantern\n"), 0
	for run := range strings.SplitSeq(r.scan(`SELECT string_agg(DISTINCT run_id::text, ' ') FROM deliveries WHERE state = 'kept'`), " ") {
		file := filepath.Join(r.dir, "secrets-"+run)
		r.twinning(0, "delivery", "collect", run, "--out", file, "--passphrase-file", phrase)
		for line := range strings.Lines(strings.TrimSpace(r.twinning(0, "delivery", "open", file, "--passphrase-file", phrase))) {
			cells, err := csv.NewReader(strings.NewReader(strings.TrimPrefix(line, "\ufeff"))).Read()
			if err != nil || len(cells) != 5 || cells[4] == "secret" {
				continue
			}
			c, err := ldap.DialURL(server.URL)
			require.NoError(t, err)
			require.NoError(t, c.Bind(server.Admin(), directory.Secret))
			found, err := c.Search(ldap.NewSearchRequest(suffix, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 1, 0, false, "(uid="+cells[3]+")", []string{"description"}, nil))
			require.NoError(t, err)
			require.NoError(t, c.Bind(found.Entries[0].DN, cells[4]), "the secret of %s opens their account", cells[3])
			require.Equal(t, "true", found.Entries[0].GetAttributeValue("description"), "and has to be changed")
			require.NoError(t, c.Close())
			opened++
		}
	}
	require.Equal(t, r.scan(`SELECT count(*)::text FROM deliveries WHERE state = 'collected'`), fmt.Sprint(opened))
	require.GreaterOrEqual(t, opened, newcomers+here/2)
}
