package charter

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/record"
)

// What HR is asked for: the id first, then what nobody can be recognised or
// given an account without, then what rules merely look at.
func TestTemplate(t *testing.T) {
	c, err := Parse([]byte(`lane: hq-dome
people: {from: hq, where: "person.userType in ['staff', 'visitor'] && person.active != false"}
accounts: {in: dome}
pairing:
  keys:
    - {name: staff number, person: person.employeeNumber, account: account.externalId}
    - {name: phone, person: person.phoneNumbers, account: account.phoneNumbers}
attributes:
  userName: {candidates: [slug(person.givenName + person.familyName)], rule: once}
  title: {value: person.title, rule: own}
  department: {value: person.department, rule: own, required: true}
emails: {primary: person.email, rule: own}
groups:
  - {enrol: observers, when: "'night' in person.roles"}
`), Vocabulary{})
	require.NoError(t, err)
	shape, err := record.ParseShape([]byte(`shape:
  id: Staff no.
  employeeNumber: Staff no.
  givenName: First name
  familyName: Last name
  email: Mail
  title: Job
  department: Dept
  userType: Kind
  active: {from: Status, true: [A], false: [L]}
  roles: {from: Roles, split: "|"}
  endsOn: {from: Ends, date: DD.MM.YYYY}
  phoneNumbers: {from: Phones, split: ","}
  costCenter: Cost centre
`))
	require.NoError(t, err)
	var got []string
	for _, w := range c.Template(shape) {
		got = append(got, strings.TrimRight(fmt.Sprintf("%s|%s|%v|%s|%s|%s|%s", w.Native, w.Attribute, w.Required, w.Form, strings.Join(w.Allowed, ","), strings.Join(w.Known, ","), w.Example), "|"))
	}
	require.Equal(t, []string{
		"Staff no.|id|true|different for everybody, and never changed|||L0001",
		"Dept|department|true|text|||Science",
		"First name|givenName|true|text|||Matilda",
		"Last name|familyName|true|text|||Thorne",
		"Mail|email|true|an e-mail address|||matilda.thorne@larkspur.example",
		"Ends|endsOn|false|a day as DD.MM.YYYY|||28.02.2027",
		"Job|title|false|text|||Astronomer",
		"Kind|userType|false|text||staff,visitor|staff",
		"Phones|phoneNumbers|false|any number of values, separated by ,|||+56 2 5550 0101",
		"Roles|roles|false|any number of values, separated by |||night",
		"Status|active|false|one of the allowed values|A,L||A",
	}, got, "a column that no rule looks at is not asked for")
}
