package planning

import "fmt"

// Delivery is what the holder of an account is sent: a new secret, or an invitation. It is sent
// once, or not at all.
type Delivery struct {
	By      string `json:"by"`                // mail or file
	To      string `json:"to,omitempty"`      // address; only of mail
	Sponsor string `json:"sponsor,omitempty"` // name of whoever vouches for its holder
	// NoLetter is why it is not mailed, where it would have been.
	NoLetter string `json:"noLetter,omitempty"`
}

// Delivered is what the verbs that deliver something name in place of an attribute.
var Delivered = map[string]string{Reissue: "secret", Invite: "invitation"}

// String tells it to whoever looks at the plan.
func (d Delivery) String() string {
	said := "in a file for whoever hands it over"
	if d.To != "" {
		said = "by mail to " + d.To
	}
	if d.Sponsor != "" {
		said += ", vouched for by " + d.Sponsor
	}
	if d.NoLetter != "" {
		said += " (no letter: " + d.NoLetter + ")"
	}
	return said
}

// Owed is the intention to give the holder of a new account its first secret, due at once; it
// stands until that was done, or a human drops it.
func Owed(person, account, reason string) Intention {
	return Intention{ID: owedID(person, account), Verb: Reissue, Person: person, Account: account, Reason: reason}
}

func owedID(person, account string) string { return IntentionID(Reissue, person, account) }

// Owes finds what the holder of an account is owed.
func Owes(intended map[string]Intention, person, account string) (i Intention, owed bool) {
	i, owed = intended[owedID(person, account)]
	return i, owed && i.Cancelled == ""
}

// OfReceipts says of an intention that receipts make it and end it, and no reconciliation.
func (i Intention) OfReceipts() bool { return i.Verb == Keep || i.Verb == Reissue }

// Edit says what goes, in the words of an edit.
func (d Delivery) Edit(verb, reason string) Edit {
	what := map[string]string{Reissue: "a new one, ", Invite: ""}[verb]
	return Edit{Attribute: Delivered[verb], New: fmt.Sprintf("%s%s", what, d), Reason: reason}
}
