package record

import (
	"regexp"
	"unicode"

	"golang.org/x/net/idna"
)

var addressed = regexp.MustCompile(`[^\s@<>()\[\],;:"]+@([^\s@<>()\[\],;:"]+)`)

// Revealed is a text for people in which each address whose domain is written in letters of
// several scripts is followed by the domain as name servers are asked for it (xn--…, RFC 5891):
// such a domain may look like another one. Domains of one script are left as they are.
func Revealed(text string) string {
	if IsASCII(text) {
		return text
	}
	return addressed.ReplaceAllStringFunc(text, func(address string) string {
		domain := addressed.FindStringSubmatch(address)[1]
		if !mixesScripts(domain) {
			return address
		}
		ascii, err := idna.Lookup.ToASCII(domain)
		if err != nil {
			ascii = "no valid domain"
		}
		return address + " (" + ascii + ")"
	})
}

// mixesScripts reports whether the letters of a text are of more than one script. Those that
// are written together in Chinese, Japanese or Korean are one.
func mixesScripts(text string) bool {
	first := ""
	for _, r := range text {
		if !unicode.IsLetter(r) {
			continue
		}
		script := scriptOf(r)
		if first == "" {
			first = script
		}
		if script != first {
			return true
		}
	}
	return false
}

func scriptOf(letter rune) string {
	if letter < 0x80 {
		return "Latin"
	}
	for name, table := range unicode.Scripts {
		if name != "Common" && name != "Inherited" && unicode.Is(table, letter) {
			switch name {
			case "Hiragana", "Katakana", "Bopomofo", "Hangul":
				return "Han"
			}
			return name
		}
	}
	return "Common"
}
