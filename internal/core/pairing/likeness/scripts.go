package likeness

import "strings"

// Words in Arabic and Hebrew letters write consonants and long vowels: each letter is put
// into Latin letters in one of a few ways, and short vowels are added as they are spoken.
// Whoever writes a name in Latin letters chooses; what is compared is whether a spelling can
// be one of the word.

// sounds of a letter, as Latin letters spell them; "" where they may leave it out.
var sounds = func() map[rune][]string {
	of := map[rune][]string{}
	for _, row := range []string{
		// Arabic, with the letters that Persian and Urdu add
		"ا a e i o u -", "ب b p", "ت t", "ث th t s", "ج j g dj dzh", "ح h", "خ kh h ch x", "د d", "ذ dh d z th", "ر r", "ز z", "س s c", "ش sh ch sch s", "ص s", "ض d dh z",
		"ط t", "ظ z dh th d", "ع a e i o u -", "غ gh g r", "ف f v ph", "ق q k g c", "ك k c", "ل l", "م m", "ن n", "ه h -", "و w v ou oo u o au aw ow", "ي y i ee e j ie ei ai ay ey", "ى a e -", "ة a e h t -", "ء -",
		"پ p", "چ ch tch c", "ژ zh j", "گ g", "ک k c", "ی y i ee e j ie -", "ے e y i", "ٹ t", "ڈ d", "ڑ r", "ں n", "ھ h -", "ہ h -",
		// Hebrew, with its final forms
		"א a e i o u -", "ב b v", "ג g", "ד d", "ה h a -", "ו v w o u ou oo", "ז z s", "ח h ch kh", "ט t", "י y i j e ee -", "כ k ch kh c", "ך k ch kh c", "ל l", "מ m", "ם m", "נ n", "ן n",
		"ס s", "ע a e i o u -", "פ p f ph", "ף p f ph", "צ ts tz z c s", "ץ ts tz z c s", "ק k q c", "ר r", "ש sh s sch", "ת t th",
	} {
		f := strings.Fields(row)
		for i, s := range f {
			if s == "-" { // silent
				f[i] = ""
			}
		}
		of[[]rune(f[0])[0]] = f[1:]
	}
	return of
}()

// article stands in one with the word in Arabic, and apart from it in Latin letters.
const article = "ال"

// spellings of a word letter by letter; nil when it is not all in letters that have sounds.
func spellings(text string) (list [][]string) {
	if rest, has := strings.CutPrefix(text, article); has && len([]rune(rest)) >= 3 {
		text, list = rest, append(list, []string{"al", "el", "ul", "as", "ash", "ad", "an", "ar", "at", "az", ""}) // it takes on the sound that follows
	}
	for _, r := range text {
		s := sounds[r]
		if s == nil {
			return nil
		}
		list = append(list, s)
	}
	return list
}

// Transcribed reports whether the word is in letters of which the sounds are known, so that
// a word in Latin letters can be held against it.
func (w *Word) Transcribed() bool { return len(w.sounds) > 0 }

// transcribes compares a word in Latin letters with one of which the sounds are known.
func transcribes(sounds [][]string, latin string) Level {
	if len(sounds) < 2 || len(latin) < 2 || len(sounds) > longestWord || len(latin) > longestWord {
		return Differ
	}
	vowel := func(i int) bool { return i >= 0 && i < len(latin) && strings.IndexByte("aeiou", latin[i]) >= 0 }
	// reached[i] are the places of the Latin word, as bits, to which the first i letters lead
	reached := make([]uint64, len(sounds)+1)
	reached[0] = 1
	for i := range reached {
		for at := range len(latin) { // a short vowel between two consonants, or one letter twice
			if reached[i]&(1<<at) == 0 {
				continue
			}
			if at > 0 && vowel(at) && !vowel(at-1) && !vowel(at+1) || at > 0 && latin[at] == latin[at-1] && !vowel(at) {
				reached[i] |= 1 << (at + 1)
			}
			if i == len(sounds) {
				continue
			}
			for _, s := range sounds[i] {
				if strings.HasPrefix(latin[at:], s) {
					reached[i+1] |= 1 << (at + len(s))
				}
			}
		}
		if i < len(sounds) && reached[i]&(1<<len(latin)) != 0 && sounds[i][len(sounds[i])-1] == "" { // silent at the end
			reached[i+1] |= 1 << len(latin)
		}
	}
	if reached[len(sounds)]&(1<<len(latin)) == 0 {
		return Differ
	}
	return Variant
}

// kept are the consonants that every way of writing keeps.
const kept = "lmnr"

// Bones are the consonants of a folded word that every way of writing it in Latin letters
// keeps, "" where there are none: by them, words in several scripts are brought together.
func (w *Word) Bones() string {
	var out []byte
	add := func(c byte) {
		if n := len(out); n == 0 || out[n-1] != c {
			out = append(out, c)
		}
	}
	if w.Transcribed() {
		for _, s := range w.sounds {
			if strings.Contains(kept, s[0]) && s[0] != "" {
				add(s[0][0])
			}
		}
		return string(out)
	}
	text := w.Text
	if len(text) > 4 && (strings.HasPrefix(text, "al") || strings.HasPrefix(text, "el")) {
		text = text[2:]
	}
	for i := range len(text) {
		if c := text[i]; strings.IndexByte(kept, c) >= 0 {
			add(c)
		}
	}
	return string(out)
}
