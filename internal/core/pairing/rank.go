package pairing

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"twinning/internal/core/record"
)

// identifiers are better keys than what people call each other, in this order.
var identifiers = []string{"employeeNumber", "externalId", "id", "email", "userName", "aliases", "phoneNumbers", "personalEmail"}

// stands ranks how well an attribute identifies by its nature.
func stands(expression string) int {
	for i, name := range identifiers {
		if strings.Contains(expression, "."+name) {
			return i
		}
	}
	return len(identifiers)
}

// keysShown bounds the list: what pairs next to nobody is left out.
const keysShown = 40

// ranked sorts the keys, keeps of each pair of attributes the best form, and
// counts where a key contradicts those before it, or the names, and what it adds.
func ranked(found []SurveyKey, strange func(twins []record.Row) int) []SurveyKey {
	for i := range found {
		k := &found[i]
		// pairs count, a shared value costs, and a function has to earn its place
		k.score = float64(k.Pairs)/(1+0.02*float64(k.mender)) - float64(k.Shared)
	}
	slices.SortStableFunc(found, func(a, b SurveyKey) int {
		return cmp.Or(cmp.Compare(b.score, a.score), cmp.Compare(stands(a.Person)+stands(a.Account), stands(b.Person)+stands(b.Account)),
			cmp.Compare(a.mender, b.mender), strings.Compare(a.Person, b.Person), strings.Compare(a.Account, b.Account))
	})
	// an id that is a copy of a number with a name of its own is that number
	numbers := map[string]SurveyKey{}
	for _, k := range found {
		if k.mender == 0 && k.attributes[0] == "employeeNumber" {
			numbers[k.attributes[1]] = k
		}
	}
	met := map[[2]string]bool{}
	var kept []SurveyKey
	for _, k := range found {
		number, copied := numbers[k.attributes[1]]
		copied = copied && k.attributes[0] == "id" && k.Pairs-number.Pairs <= k.Pairs/50
		faint := len(kept) > 0 && k.Pairs*20 < kept[0].Pairs && stands(k.Person) == len(identifiers) // names that happen to be rare
		if k.Pairs == 0 || faint || copied || met[k.attributes] || len(kept) == keysShown {
			continue
		}
		met[k.attributes] = true
		kept = append(kept, k)
	}
	// the best by nature among those that pair well comes first
	if len(kept) > 0 {
		best := kept[0].Pairs
		slices.SortStableFunc(kept, func(a, b SurveyKey) int {
			x, y := a.Pairs*10 >= best*5 && a.Shared*20 <= a.Pairs, b.Pairs*10 >= best*5 && b.Shared*20 <= b.Pairs
			switch {
			case x && y:
				return cmp.Compare(stands(a.Person)+stands(a.Account), stands(b.Person)+stands(b.Account))
			case x:
				return -1
			case y:
				return 1
			}
			return 0
		})
	}
	var consensus []record.Row
	for i := range kept {
		k := &kept[i]
		strangers := strange(k.twins)
		if consensus == nil {
			k.Disagree = strangers
			consensus, k.OnlyHere = k.twins, k.Pairs
			continue
		}
		for p, a := range k.twins {
			switch {
			case a < 0:
			case consensus[p] < 0:
				k.OnlyHere++
				consensus[p] = a
			case consensus[p] != a:
				k.Disagree++
			default:
				k.agree++
			}
		}
		k.Disagree = max(k.Disagree, strangers)
	}
	for i := range kept {
		kept[i].twins = nil
	}
	return kept
}

// A key is suggested when its values are mostly one record's alone, it pairs a
// tenth of the smaller side, it contradicts better keys in at most one pair of a
// hundred, and it pairs somebody whom they don't. What is made of a name (a part
// of an address, a login) has to be borne out by a better key as well: namesakes
// in two houses have the same.
func suggestion(s Survey) string {
	var b strings.Builder
	people := map[string]bool{}
	for _, k := range s.Keys {
		identifies := k.PersonUnique*100 >= k.PersonFilled*95 && k.AccountUnique*100 >= k.AccountFilled*95
		enough := k.Pairs*10 >= min(s.People, s.Accounts) && k.Disagree*100 <= k.Pairs
		adds := k.OnlyHere*200 >= k.Pairs
		fromName := strings.Contains(k.Person+k.Account, "local(") || strings.Contains(k.Person+k.Account, "slug(")
		if !identifies || !enough || !adds || people[k.Person] || stands(k.Person) == len(identifiers) || fromName && k.agree < max(10, k.Pairs/2) {
			continue
		}
		people[k.Person] = true
		if b.Len() == 0 {
			b.WriteString("pairing:\n  keys:\n")
		}
		fmt.Fprintf(&b, "    - {name: %s, person: %s, account: %s}\n", keyName(k), quoted(k.Person), quoted(k.Account))
	}
	if b.Len() > 0 { // what no key pairs is weighed, and asked about where it is not sure
		b.WriteString("  evidence: {accept: 0.95, review: 0.60}\n")
	}
	return b.String()
}

var keyNames = map[string]string{"employeeNumber": "staff number", "externalId": "mark", "email": "e-mail", "userName": "login", "aliases": "alias", "phoneNumbers": "phone", "personalEmail": "private e-mail", "id": "id"}

// keyName is what people call the key: by the more telling of its two sides.
func keyName(k SurveyKey) string {
	worst, name := -1, "key"
	for _, e := range []string{k.Person, k.Account} {
		if at := stands(e); at > worst && at < len(identifiers) {
			worst, name = at, keyNames[identifiers[at]]
		}
	}
	if strings.Contains(k.Person+k.Account, ".employeeNumber") {
		return "staff number"
	}
	return name
}

// quoted is an expression as a YAML document takes it.
func quoted(e string) string {
	if strings.ContainsAny(e, `,'"{}#`) {
		return `"` + strings.ReplaceAll(strings.ReplaceAll(e, `\`, `\\`), `"`, `\"`) + `"`
	}
	return e
}
