package planning

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/record"
)

// PremiseKind says what a premise is about.
type PremiseKind string

// Kinds of premises. The key names what is looked at, the version what it must
// still be; both are compared as they stand.
const (
	PersonAsRead PremiseKind = "person"     // key: person id; version: digest of their record as it was read
	PersonAbsent PremiseKind = "absent"     // key: person id; version: "", not in the newest roster in any form
	AbsenceKnown PremiseKind = "absence"    // key: people; version: "", nothing in the newest roster may hide somebody
	NoneHidden   PremiseKind = "hidden"     // key: accounts; version: "", nothing in the newest rosters may hide the account of somebody new
	NamesKnown   PremiseKind = "names"      // key: accounts, or people; version: "", nothing in the newest roster may hold a name, or be reached at an address, that nobody knows of
	NobodyNew    PremiseKind = "newcomers"  // key: people; version: the roster that was read; nobody came or changed since
	KeyAlone     PremiseKind = "key"        // key: name of the key and the value, by KeyOf; version: "", no record that came or changed since carries it too
	BondOf       PremiseKind = "bond"       // key: account id; version: its bonded person, "" for none
	BondedTo     PremiseKind = "bonded"     // key: person id; version: their bonded account, "" for none
	Rulings      PremiseKind = "rulings"    // key: person and account, by PairKey; version: ids of the rulings that name either
	Unclaimed    PremiseKind = "claims"     // key: account id; version: "", no other lane holds it
	Nowhere      PremiseKind = "elsewhere"  // key: account id; version: "", no other lane of the downstream twins or contests it, or has people whom it has not looked at
	NameReserved PremiseKind = "name"       // key: folded name; version: the plan that has reserved it, filled in at sealing
	NameNowhere  PremiseKind = "nowhere"    // key: name and person, by KeyOf; version: "", no record of a system that shares its names and came or changed since holds it for somebody else
	MailAlone    PremiseKind = "mail"       // key: address and its holder, by KeyOf and PairKey; version: "", no record that came or changed since carries it too
	OurSuspend   PremiseKind = "suspension" // key: account id; version: the receipt that suspended it and stands
	NotCancelled PremiseKind = "intention"  // key: id of the intention; version: "", no human has dropped it
	WeightsUsed  PremiseKind = "weights"    // version: the weights in force
	CharterUsed  PremiseKind = "charter"    // version: the charter in force
	Condition    PremiseKind = "condition"  // key: path of an expression of the charter, person and account, by ConditionKey; version: what it came to, see charter.Value.Outcome
	AccountValue PremiseKind = "value"      // key: lane ("" for its own), account and attribute, by ValueKey; version: the cell as it was read
)

// OfRecords: how it stands is told by records that came or changed alone, and is asked of them.
func (k PremiseKind) OfRecords() bool {
	return k == KeyAlone || k == NameNowhere || k == MailAlone || k.OfValues()
}

// OfValues: what it rests on is what records hold, which is read again.
func (k PremiseKind) OfValues() bool { return k == Condition || k == AccountValue }

// ConditionKey is the key of a premise about what an expression came to for a person and an
// account; "" stands for none.
func ConditionKey(path, person, account string) string {
	return strings.Join([]string{path, person, account}, between)
}

// ValueKey is the key of a premise about an attribute of an account; lane is "" for the one
// that the change is of.
func ValueKey(lane, account, attribute string) string {
	return strings.Join([]string{lane, account, attribute}, between)
}

// CutThree takes a key of three fields apart.
func CutThree(key string) (a, b, c string) {
	a, rest, _ := strings.Cut(key, between)
	b, c, _ = strings.Cut(rest, between)
	return a, b, c
}

// Premise is one thing that a change rests on.
type Premise struct {
	Kind    PremiseKind `json:"kind"`
	Key     string      `json:"key,omitempty"`
	Version string      `json:"version,omitempty"`
}

// Fact is how something stands now.
type Fact struct {
	Kind PremiseKind
	Key  string
}

// Facts are what one query has gathered: how each thing asked about stands now,
// "" where it is not there.
type Facts map[Fact]string

// between parts the fields of a compound key; no id or value holds it.
const between = "\x1f"

// PairKey is the key of a premise about a person and an account.
func PairKey(person, account string) string { return person + between + account }

// KeyOf is the key of a premise about one value of a charter's key.
func KeyOf(name, value string) string { return name + between + value }

// CutKey takes one apart.
func CutKey(key string) (name, value string) {
	name, value, _ = strings.Cut(key, between)
	return name, value
}

// StillHold judges a change's premises by the facts. It says what fell, in one
// sentence, or "" when all hold. A fact that was not gathered is one that fell.
func StillHold(premises []Premise, facts Facts) string {
	for _, p := range premises {
		now, known := facts[Fact{p.Kind, p.Key}]
		if !known {
			return fmt.Sprintf("it is not known whether %s %q still holds", p.Kind, p.Key)
		}
		if !p.holds(now) {
			return p.fell(now)
		}
	}
	return ""
}

func (p Premise) holds(now string) bool {
	switch p.Kind {
	case BondOf, BondedTo:
		// a bond that an earlier change of this very twin has made is no news
		kept, wanted, _ := strings.Cut(p.Version, between)
		return now == kept || wanted != "" && now == wanted
	}
	return now == p.Version
}

// Unless lets a bond premise hold also when the bond is, meanwhile, the one that
// the twin itself is given by its receipts.
func Unless(bonded, own string) string {
	if bonded == own {
		return bonded
	}
	return bonded + between + own
}

// rulingsMoved says which rulings are new, or else which were cleared.
func rulingsMoved(before, now string) string {
	only := func(list, others string) (ids []string) {
		for _, id := range strings.Split(list, ",") {
			if id != "" && !slices.Contains(strings.Split(others, ","), id) {
				ids = append(ids, id)
			}
		}
		return ids
	}
	if came := only(now, before); len(came) > 0 {
		return fmt.Sprintf("ruling %s is new", strings.Join(came, ", "))
	}
	return fmt.Sprintf("ruling %s was cleared", strings.Join(only(before, now), ", "))
}

// fell says what is otherwise now.
func (p Premise) fell(now string) string {
	first, second, _ := strings.Cut(p.Key, between)
	switch p.Kind {
	case PersonAsRead:
		switch now {
		case "":
			return "the person is not in the newest roster any more"
		case Unreadable:
			return "the person's record could not be read in the newest roster"
		}
		return "the person's record changed since the plan was made"
	case PersonAbsent:
		return fmt.Sprintf("person %q is in the newest roster again", p.Key)
	case AbsenceKnown:
		return "nothing may be concluded from an absence: " + now
	case NoneHidden:
		return "nobody may be created: " + now
	case NamesKnown:
		if p.Key == "people" {
			return "whether an address is somebody else's too can't be said: " + now
		}
		return "no name may be called free: " + now
	case NobodyNew:
		return "it rests on nobody owning the account, and " + now
	case KeyAlone:
		return fmt.Sprintf("%s %q is no longer theirs alone: %s", first, second, now)
	case BondOf:
		return "the account " + bondWords(now, "person")
	case BondedTo:
		return "the person " + bondWords(now, "account")
	case Rulings:
		about := slices.DeleteFunc([]string{first, second}, func(s string) bool { return s == "" })
		return fmt.Sprintf("a human ruled on %s since: %s", strings.Join(about, " or "), rulingsMoved(p.Version, now))
	case Unclaimed:
		return "the account is held or contested by lane " + now + " now"
	case Nowhere:
		return "the account may be that of another lane's people: " + now
	case NameReserved:
		return fmt.Sprintf("the name %q is no longer reserved for this plan", p.Key)
	case NameNowhere:
		return fmt.Sprintf("the name %q is free no more: %s", first, now)
	case MailAlone:
		return fmt.Sprintf("what is sent to %q would reach somebody else: %s", first, now)
	case OurSuspend:
		return "the account's suspension is no longer ours: somebody opened it since"
	case NotCancelled:
		return "the intention was cancelled: " + now
	case WeightsUsed:
		return fmt.Sprintf("evidence is weighed anew since (weights %s, were %s)", cmp.Or(now, "none"), cmp.Or(p.Version, "none"))
	case Condition:
		return fmt.Sprintf("%s of the charter comes to %s now, and came to %s", first, readable(now), readable(p.Version))
	case AccountValue:
		_, account, attribute := CutThree(p.Key)
		return fmt.Sprintf("%s of account %q, which it rests on, is %s now, and was %s", attribute, account, readable(now), readable(p.Version))
	case CharterUsed:
		return fmt.Sprintf("the charter has changed since (version %s, was %s)", now, p.Version)
	}
	return fmt.Sprintf("%s %q is %q, was %q", p.Kind, p.Key, now, p.Version)
}

// readable is a cell, or an outcome, in a sentence.
func readable(cell string) string {
	switch cell {
	case "true", "false", Gone:
		return cell
	case "":
		return "blank"
	}
	return fmt.Sprintf("%q", record.PlainList(cell))
}

// Gone is the fact of a record that a premise is about and that is not there any more.
const Gone = "gone"

// Unreadable is the fact of a person whose record is there and was not
// understood.
const Unreadable = "unreadable"

func bondWords(now, what string) string {
	if now == "" {
		return "is no longer bonded as it was"
	}
	return fmt.Sprintf("is bonded with %s %q now", what, now)
}

// Withheld is a change that would have been drafted, and why it is not.
type Withheld struct {
	Verb    string `json:"verb"`
	Person  string `json:"personId,omitempty"`
	Account string `json:"accountId,omitempty"`
	Reason  string `json:"reason"`
}

// CountWithheld counts by verb.
func CountWithheld(list []Withheld) map[string]int {
	counts := map[string]int{}
	for _, w := range list {
		counts[w.Verb]++
	}
	return counts
}
