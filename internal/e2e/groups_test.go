package e2e

import (
	"cmp"
	"fmt"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"twinning/internal/standin/directory"
	"twinning/internal/standin/scimapp"
)

const groupRules = `lane: crew
people: {from: hq}
accounts: {in: app}
mark: person.id
pairing: {keys: [{name: number, person: person.id, account: account.MARK}]}
attributes:
  userName: {candidates: [local(person.email)], rule: once}
  givenName: person.givenName
  familyName: person.familyName
  displayName: "person.givenName + ' ' + person.familyName"
emails: {primary: person.email, rule: own}
groups:
  - {enrol: everybody}
  - {enrol: observers, when: person.department == 'Night'}
guards: {withdraw: {more-than: 5}, roster-drop: 100%, coverage-drop: 100%}
`

// enrolling is one kind of system with two groups, everybody and observers, and of its three
// accounts the last in observers already.
type enrolling struct {
	system  []string // arguments of system put
	mark    string
	members func(group string) []string // by staff number
	nest    func(group, into string)    // a new one
	// owners makes people, by login, a group's owners, and tells who they are; nil: groups have none
	owners func(group string, now ...string) []string
	// both are the directory and one that is changed by the plans' change records; nil elsewhere
	both *twins
}

// Who is in a group follows the charter, in each kind of system: who was put in is taken out
// again, who was in before stays, and a group that is not there is a refusal that says so.
func TestGroupsFollowTheCharter(t *testing.T) {
	for kind, begin := range map[string]func(t *testing.T, r *rig) enrolling{"scim": scimGroups, "ldap": directoryGroups} {
		t.Run(kind, func(t *testing.T) {
			r := newRig(t, "")
			x := begin(t, r)
			people := func(depts ...string) {
				text := columns
				for i, d := range depts {
					dept, status, _ := strings.Cut(d, ",")
					text += fmt.Sprintf("L%d,%d,Nova,Kester%c,n%d@larkspur.example,%s,%s\n", i, i, 'a'+i, i, cmp.Or(status, "A"), dept)
				}
				r.write("hq.csv", text)
				r.twinning(0, "roster", "take", "hq")
			}
			r.write("hq.csv", columns)
			r.twinning(0, "system", "put", "hq", "--kind", "file", "--set", "path="+r.dir+"/hq.csv", "--shape", r.write("people.yaml", peopleShape))
			r.twinning(0, append([]string{"system", "put", "app"}, x.system...)...)
			r.twinning(0, "roster", "take", "app")
			people("Night", "Day", "Day", "Night") // the last has no account yet
			r.twinning(0, "system", "open", "app")
			r.twinning(0, "charter", "put", r.write("charter.yaml", strings.ReplaceAll(groupRules, "MARK", x.mark)))
			pass := func() (plan string) {
				plan = r.drafted("crew")
				if x.both != nil {
					x.both.plays(plan)
				} else {
					require.Contains(t, r.any("plan", "export", plan, "--format", "ldif"), "only changes of a directory can be put down as LDIF")
				}
				r.seal(0, plan)
				require.Contains(t, r.twinning(0, "plan", "run", plan), " done")
				if x.both != nil {
					x.both.alike()
					require.Contains(t, r.any("plan", "export", plan, "--format", "ldif"), "nothing is left to be done of plan "+plan)
				}
				require.Contains(t, r.twinning(0, "plan", "verify", plan), " confirmed, 0 not")
				r.twinning(0, "roster", "take", "app")
				return plan
			}
			pass() // a newcomer is put in right after their account is made
			require.Equal(t, []string{"L0", "L1", "L2", "L3"}, x.members("everybody"))
			require.Equal(t, []string{"L0", "L2", "L3"}, x.members("observers"), "whom somebody else put in stays")
			require.Contains(t, r.any("reconcile", "crew"), "[exit 0]", "nothing is left to do")
			people("Day", "Night", "Day", "Night")
			pass()
			require.Equal(t, []string{"L1", "L2", "L3"}, x.members("observers"))

			r.twinning(0, "charter", "put", r.write("charter.yaml", strings.ReplaceAll(groupRules, "MARK", x.mark)+"\n# another group\n"))
			rules := strings.ReplaceAll(groupRules, "MARK", x.mark)
			r.twinning(0, "charter", "put", r.write("charter.yaml", strings.ReplaceAll(rules, "enrol: everybody}", "enrol: [everybody, night crew], create: true}")))
			pass() // a group is made where the charter says so, once
			require.Equal(t, []string{"L0", "L1", "L2", "L3"}, x.members("night crew"))
			require.Contains(t, r.any("reconcile", "crew"), "[exit 0]", "nothing is left to do")
			x.nest("everybody", "friends") // who is in everybody is in friends as well, by way of it
			r.twinning(0, "roster", "take", "app")
			nested := strings.ReplaceAll(rules, "enrol: everybody}", "enrol: [everybody, friends]}")
			r.twinning(0, "charter", "put", r.write("charter.yaml", nested))
			require.Contains(t, r.any("reconcile", "crew"), "[exit 0]", "they are in, and nobody is taken out of what they are not in themselves")
			if x.owners != nil { // what somebody who has left owns passes on
				require.Equal(t, []string{"n0", "n1"}, x.owners("observers", "n0", "n1"))
				x.owners("friends", "n0")
				r.twinning(0, "roster", "take", "app")
				people("Day,L", "Night", "Day", "Night")
				r.twinning(0, "charter", "put", r.write("charter.yaml", nested+"leavers: {hand-over: {to: \"'L2'\", lists: [ownedGroups]}, stages: [{after: 0d, do: [hand-over]}]}\n"))
				pass()
				require.Equal(t, []string{"n1", "n2"}, x.owners("observers"))
				require.Equal(t, []string{"n2"}, x.owners("friends"))
				r.any("reconcile", "crew") // it is seen
				r.twinning(0, "run", "undo", r.scan("SELECT max(id)::text FROM runs"), "--reason", "she stays until May")
				plan := r.scan("SELECT max(id)::text FROM plans")
				r.seal(0, plan)
				require.Contains(t, r.twinning(0, "plan", "run", plan), "2 done")
				require.Contains(t, r.twinning(0, "plan", "verify", plan), "2 confirmed, 0 not")
				require.Equal(t, []string{"n0", "n1"}, x.owners("observers"), "what was handed over is given back")
				require.Equal(t, []string{"n0"}, x.owners("friends"))
				r.twinning(0, "roster", "take", "app")
				require.Regexp(t, `Withheld\s+1  set +ownedGroups is kept as it is until`, r.any("reconcile", "crew"))
				require.Contains(t, r.any("plan", "draft", "crew"), "nothing to change for now", "and is not handed over again the next night")
				people("Day", "Night", "Day", "Night")
			}
			source := strings.ReplaceAll(rules, "enrol: everybody", "enrol: [everybody, no-such-group]")
			r.twinning(0, "charter", "put", r.write("charter.yaml", source))
			plan := r.drafted("crew")
			r.seal(0, plan)
			r.any("plan", "run", plan)
			require.Contains(t, r.twinning(0, "run", "receipts", r.scan("SELECT max(id)::text FROM runs")), "find the group no-such-group")
			if x.both != nil {
				require.Contains(t, strings.ReplaceAll(r.twinning(0, "plan", "export", plan, "--format", "ldif"), "\n#", ""), "is not here: find the group no-such-group")
			}
		})
	}
}

func scimGroups(t *testing.T, r *rig) enrolling {
	app, err := scimapp.New("", "token")
	require.NoError(t, err)
	server := httptest.NewServer(app)
	t.Cleanup(server.Close)
	var ids []string
	for i := range 3 {
		u := user(fmt.Sprintf("L%d", i), fmt.Sprintf("n%d", i), "Nova", fmt.Sprintf("Kester%c", 'a'+i), true)
		u["displayName"], u["emails"] = fmt.Sprintf("Nova Kester%c", 'a'+i), []any{map[string]any{"value": fmt.Sprintf("n%d@larkspur.example", i), "primary": true, "type": "work"}}
		ids = append(ids, app.Put(u))
	}
	app.PutGroup("g1", "everybody")
	app.PutGroup("g2", "observers", ids[2])
	app.Misbehave(scimapp.Misbehaviour{DropEvery: 5, EmptyGroups: true})
	members := func(group string) (list []string) {
		require.Empty(t, app.Members("g004"), "no group is made twice")
		in := app.Members(map[string]string{"everybody": "g1", "observers": "g2", "night crew": "g003"}[group])
		for _, u := range app.Users() {
			if slices.Contains(in, fmt.Sprint(u["id"])) {
				list = append(list, fmt.Sprint(u["externalId"]))
			}
		}
		slices.Sort(list)
		return list
	}
	shape := r.write("app.yaml", "shape: {id: id, externalId: externalId, userName: userName, givenName: name.givenName, familyName: name.familyName, displayName: displayName, email: emails.primary, aliases: emails.other, active: active, groups: memberships, nestedGroups: memberships.nested}\nmark: externalId\nstable: true\n")
	return enrolling{[]string{"--kind", "scim", "--set", "url=" + server.URL + "/scim/v2,timeout=1", "--secret-file", r.write("token", "token"), "--shape", shape}, "externalId", members, func(group, into string) { app.PutGroup("g9", into, map[string]string{"everybody": "g1"}[group]) }, nil, nil}
}

func directoryGroups(t *testing.T, r *rig) enrolling {
	const suffix = "dc=larkspur,dc=example"
	var tree strings.Builder
	for _, ou := range []string{"people", "groups"} {
		fmt.Fprintf(&tree, "dn: ou=%[1]s,%[2]s\nobjectClass: organizationalUnit\nou: %[1]s\n\n", ou, suffix)
	}
	for i := range 3 {
		fmt.Fprintf(&tree, "dn: uid=n%[1]d,ou=people,%[2]s\nobjectClass: inetOrgPerson\nuid: n%[1]d\ncn: Nova Kester%[3]c\nsn: Kester%[3]c\ngivenName: Nova\nmail: n%[1]d@larkspur.example\nemployeeNumber: L%[1]d\n\n", i, suffix, 'a'+i)
	}
	fmt.Fprintf(&tree, "dn: cn=nobody,%[1]s\nobjectClass: organizationalRole\ncn: nobody\n\n", suffix)
	fmt.Fprintf(&tree, "dn: cn=everybody,ou=groups,%[1]s\nobjectClass: groupOfNames\ncn: everybody\nmember: cn=nobody,%[1]s\n\ndn: cn=observers,ou=groups,%[1]s\nobjectClass: groupOfNames\ncn: observers\nmember: uid=n2,ou=people,%[1]s\n\n", suffix)
	both := r.twins(directory.Config{}, tree.String())
	server := both.run
	ca, err := os.ReadFile(server.CAFile)
	require.NoError(t, err)
	members := func(group string) (list []string) {
		c := bound(t, server)
		res, err := c.Search(ldap.NewSearchRequest(fmt.Sprintf("cn=%s,ou=groups,%s", group, suffix), ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)", []string{"member"}, nil))
		require.NoError(t, err)
		for _, dn := range res.Entries[0].GetAttributeValues("member") {
			if found, err := c.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(employeeNumber=*)", []string{"employeeNumber"}, nil)); err == nil && len(found.Entries) == 1 {
				list = append(list, found.Entries[0].GetAttributeValue("employeeNumber"))
			}
		}
		slices.Sort(list)
		return list
	}
	nest := func(group, into string) {
		add := ldap.NewAddRequest("cn="+into+",ou=groups,"+suffix, nil)
		add.Attribute("objectClass", []string{"groupOfNames"})
		add.Attribute("member", []string{fmt.Sprintf("cn=%s,ou=groups,%s", group, suffix)})
		require.NoError(t, bound(t, server).Add(add))
		require.NoError(t, bound(t, both.script).Add(add))
	}
	owners := func(group string, now ...string) (list []string) {
		dn := "cn=" + group + ",ou=groups," + suffix
		if len(now) > 0 {
			change := ldap.NewModifyRequest(dn, nil)
			for _, uid := range now {
				change.Add("owner", []string{"uid=" + uid + ",ou=people," + suffix})
			}
			require.NoError(t, bound(t, server).Modify(change))
			require.NoError(t, bound(t, both.script).Modify(change))
		}
		res, err := bound(t, server).Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)", []string{"owner"}, nil))
		require.NoError(t, err)
		for _, owner := range res.Entries[0].GetAttributeValues("owner") {
			uid, _, _ := strings.Cut(strings.TrimPrefix(owner, "uid="), ",")
			list = append(list, uid)
		}
		slices.Sort(list)
		return list
	}
	shape := r.write("app.yaml", "shape: {id: entryUUID, userName: uid, givenName: givenName, familyName: sn, displayName: cn, email: mail, employeeNumber: employeeNumber, groups: memberships, nestedGroups: memberships.nested, ownedGroups: memberships.owned}\nmark: employeeNumber\nclasses: [inetOrgPerson]\nstable: true\n")
	return enrolling{[]string{"--kind", "ldap", "--secret-file", r.write("secret", directory.Secret), "--shape", shape,
		"--set", fmt.Sprintf("url=%s,ca-file=%s,bind=%s,base=ou=people,%s,group-base=ou=groups,%[4]s,group-must-have=cn=nobody,%[4]s", server.URL, r.write("ca.pem", string(ca)), server.Admin(), suffix)}, "employeeNumber", members, nest, owners, &both}
}

// Two lanes, run at the same time by two nodes, put people into one group that can only be written
// as a whole: none takes another's members out again.
func TestTwoLanesOneGroup(t *testing.T) {
	const each = 12
	for name, is := range map[string]scimapp.Misbehaviour{
		"PUT with ETags":    {NoPatch: true, DropEvery: 7},
		"PUT without ETags": {NoPatch: true, NoETag: true},
		"PATCH":             {DropEvery: 7},
	} {
		t.Run(name, func(t *testing.T) {
			r := newRig(t, "")
			app, err := scimapp.New("", "token")
			require.NoError(t, err)
			server := httptest.NewServer(app)
			t.Cleanup(server.Close)
			keeper := app.Put(map[string]any{"userName": "keeper", "active": true}) // an empty list is never taken for everybody's
			app.PutGroup("g1", "everybody", keeper)
			app.PutGroup("g2", "observers")
			shape := r.write("app.yaml", "shape: {id: id, externalId: externalId, userName: userName, givenName: name.givenName, familyName: name.familyName, displayName: displayName, email: emails.primary, aliases: emails.other, active: active, groups: memberships}\nmark: externalId\nstable: true\n")
			r.twinning(0, "system", "put", "app", "--kind", "scim", "--set", "url="+server.URL+"/scim/v2,timeout=1,put-without-etag=yes", "--secret-file", r.write("token", "token"), "--shape", shape)
			r.twinning(0, "system", "open", "app")
			r.twinning(0, "roster", "take", "app")
			var plans []string
			for _, lane := range []string{"crew", "guests"} {
				people := columns
				for i := range each {
					people += fmt.Sprintf("%[1]s%[2]d,%[1]s%[2]d,Nova,Kester%[1]s%[2]d,%[1]s%[2]d@larkspur.example,A,Night\n", lane, i)
				}
				r.twinning(0, "system", "put", lane+"-hq", "--kind", "file", "--set", "path="+r.write(lane+".csv", people), "--shape", r.write("people.yaml", peopleShape))
				r.twinning(0, "roster", "take", lane+"-hq")
				r.twinning(0, "charter", "put", r.write("charter.yaml", strings.NewReplacer("lane: crew", "lane: "+lane, "from: hq", "from: "+lane+"-hq", "MARK", "externalId").Replace(groupRules)))
			}
			for _, lane := range []string{"crew", "guests"} {
				plans = append(plans, r.drafted(lane))
				r.seal(0, plans[len(plans)-1])
			}
			r.another("second", "")
			app.Misbehave(is)
			for _, p := range plans {
				r.twinning(0, "plan", "run", p, "--no-wait")
			}
			require.Eventually(t, func() bool { return r.scan(`SELECT count(*)::text FROM plans WHERE state = 'finished'`) == "2" }, 2*time.Minute, 200*time.Millisecond)
			require.Len(t, app.Members("g1"), 2*each+1)
			require.Len(t, app.Members("g2"), 2*each)
			require.Equal(t, "0", r.scan(`SELECT count(*)::text FROM receipts WHERE outcome <> 'done'`))
			for _, p := range plans {
				require.Contains(t, r.twinning(0, "plan", "verify", p), " confirmed, 0 not")
			}
		})
	}
}
