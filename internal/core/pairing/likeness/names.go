package likeness

import "slices"

// Name is what a record says of somebody's name. Full is used where the parts
// are not known, and for what the parts leave out.
type Name struct{ Given, Middle, Family, Full string }

// IsParticle reports whether a word only joins names.
func IsParticle(word string) bool { return particles[word] }

func sorted(words []string) []string {
	words = slices.Clone(words)
	slices.Sort(words)
	return words
}
