// Package likeness compares what two records say about who they are, value by
// value, and says how far they agree: in levels, which evidence weighs, and in
// words, which people read.
//
// Every comparator is symmetric, and a value that is missing on either side is
// no disagreement. None of them decides anything: a level is worth what the
// weights say that it is worth among people who are the same and among people
// who are not.
package likeness

// Level of agreement.
type Level uint8

const (
	Missing Level = iota // one of them says nothing
	Differ               // they say different things
	Faint                // something is alike, as it is in many strangers
	Begun                // it begins alike, as short forms do, and as names of two humans do
	Part                 // a part agrees, and nothing in the rest speaks against it
	Short                // one is what people of the other name are called
	Variant              // one value in two ways of writing it
	Near                 // but for a slip of the hand
	Same                 // one value
)

func (l Level) String() string {
	return [...]string{"missing", "differ", "faint", "begins alike", "part", "short form", "variant", "near", "same"}[l]
}

// Words tells the level of two words of a name.
func (l Level) Words() string { return words[l] }

// Verdict is a level with its reason in words.
type Verdict struct {
	Level Level
	Words string
}
