package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"twinning/internal/standin/directory"
)

// A service that is killed while it renames and makes entries of a directory goes on
// with it: every entry once, no reference to a name that is no more.
func TestKilledOverADirectory(t *testing.T) {
	const suffix, renamed, made = "dc=larkspur,dc=example", 30, 30
	var tree, people strings.Builder
	for _, ou := range []string{"people", "groups"} {
		fmt.Fprintf(&tree, "dn: ou=%[1]s,%[2]s\nobjectClass: organizationalUnit\nou: %[1]s\n\n", ou, suffix)
	}
	members := ""
	for i := range renamed + made {
		fmt.Fprintf(&people, "L%03d,%d,Nova,Kester%c%c,n%d@larkspur.example,A,Ops\n", i, i, 'a'+i/10, 'a'+i%10, i)
		if i < renamed {
			fmt.Fprintf(&tree, "dn: uid=old%[1]d,ou=people,%[2]s\nobjectClass: inetOrgPerson\nuid: old%[1]d\ncn: Nova\nsn: Kester%[3]c%[4]c\ngivenName: Nova\nmail: n%[1]d@larkspur.example\nemployeeNumber: L%03[1]d\n\n", i, suffix, 'a'+i/10, 'a'+i%10)
			members += fmt.Sprintf("member: uid=old%d,ou=people,%s\n", i, suffix)
		}
	}
	fmt.Fprintf(&tree, "dn: cn=observers,ou=groups,%s\nobjectClass: groupOfNames\ncn: observers\n%s\n", suffix, members)
	server, err := directory.Start(context.Background(), directory.Config{Dir: dataDir(t), Plain: true}, tree.String())
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Stop()) })

	r := newRig(t, "--lease 3s")
	r.write("secret", directory.Secret)
	ca, err := os.ReadFile(server.CAFile)
	require.NoError(t, err)
	csv := r.write("hq.csv", columns+people.String())
	r.twinning(0, "system", "put", "hq", "--kind", "file", "--set", "path="+csv, "--shape", r.write("people.yaml", "shape: {id: id, givenName: given, familyName: family, email: mail, active: {from: active, true: [A], false: [L]}}\n"))
	r.twinning(0, "system", "put", "tree", "--kind", "ldap", "--per-second", "120", "--secret-file", r.dir+"/secret",
		"--set", fmt.Sprintf("url=%s,ca-file=%s,bind=%s,base=ou=people,%s,timeout=2", server.URL, r.write("ca.pem", string(ca)), server.Admin(), suffix),
		"--shape", r.write("tree.yaml", "shape: {id: entryUUID, userName: uid, givenName: givenName, familyName: sn, displayName: cn, email: mail, employeeNumber: employeeNumber}\nmark: employeeNumber\nclasses: [inetOrgPerson]\n"))
	r.twinning(0, "system", "open", "tree")
	r.twinning(0, "roster", "take", "hq")
	r.twinning(0, "roster", "take", "tree")
	r.twinning(0, "charter", "put", r.write("charter.yaml", `lane: tree
people: {from: hq}
accounts: {in: tree}
mark: person.id
pairing: {keys: [{name: number, person: person.id, account: account.employeeNumber}]}
attributes:
  userName: {candidates: [slug(person.givenName + '.' + person.familyName)], rule: own}
  givenName: person.givenName
  familyName: person.familyName
  displayName: "person.givenName + ' ' + person.familyName"
emails: {primary: person.email, rule: own}
guards: {rename: {more-than: 100}}
`))
	plan := r.drafted("tree")
	r.seal(0, plan)
	r.twinning(0, "plan", "run", plan, "--no-wait")
	rng := rand.New(rand.NewPCG(20261126, 1))
	r.killed(10, func() time.Duration { return time.Duration(100+rng.IntN(300)) * time.Millisecond })
	require.Eventually(t, func() bool { return strings.Contains(r.twinning(0, "plan", "list", "tree"), "finished") }, 3*time.Minute, 300*time.Millisecond)
	receipts := r.twinning(0, "run", "receipts", "1", "-o", "json", "--limit", "500")
	t.Logf("looked up after a kill: %d", strings.Count(receipts, "found done by reading")+strings.Count(receipts, "not done, by reading"))
	bad := r.twinning(0, "run", "receipts", "1", "--bad", "-o", "json") // what the first run did not hear of, where it was halted, the second settled
	require.Equal(t, strings.Count(bad, `settled it"`), strings.Count(bad, `"outcome": "`), "%s", bad)

	c, err := ldap.DialURL(server.URL)
	require.NoError(t, err)
	defer c.Close() // only reads
	require.NoError(t, c.Bind(server.Admin(), directory.Secret))
	find := func(filter string) []*ldap.Entry {
		res, err := c.Search(ldap.NewSearchRequest(suffix, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, filter, []string{"member", "employeeNumber", "uid"}, nil))
		require.NoError(t, err)
		return res.Entries
	}
	require.Len(t, find("(objectClass=inetOrgPerson)"), renamed+made)
	require.Empty(t, find("(uid=old*)"))
	for i := range renamed + made {
		require.Len(t, find(fmt.Sprintf("(employeeNumber=L%03d)", i)), 1)
	}
	group := find("(cn=observers)")[0].GetAttributeValues("member")
	require.Len(t, group, renamed)
	for _, dn := range group {
		require.NotContains(t, dn, "uid=old", "the group names who is no more")
	}
	require.Contains(t, r.twinning(0, "plan", "verify", plan), " confirmed, 0 not")
	r.twinning(0, "roster", "take", "tree")
	require.Contains(t, r.any("reconcile", "tree"), "[exit 0]")
}
