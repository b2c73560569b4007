package record

import (
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Understood is what was made of one native attribute, from its name and from
// the values of some records.
type Understood struct {
	Native     string   `json:"native"`
	Attribute  string   `json:"attribute,omitempty"` // canonical or custom; "" when it is not used
	Also       []string `json:"also,omitempty"`      // what else it feeds: the id beside a login, say
	Confidence float64  `json:"confidence"`          // 0 to 1, of Attribute
	Because    string   `json:"because"`             // what it was recognised by
	Kind       string   `json:"kind"`                // of its values: addresses, days, yes or no, numbers, one of a few, text, nothing
	Filled     int      `json:"filled"`
	Distinct   int      `json:"distinct"`
	Examples   []string `json:"examples"`
	Note       string   `json:"note,omitempty"` // what to look at
	Flag       bool     `json:"flag,omitempty"` // it feeds an attribute that is true or false
	TrueWords  []string `json:"trueWords,omitempty"`
	Counts     bool     `json:"counts,omitempty"` // its values count the rows, from 1 on
}

// How sure a header or the values alone make us.
const (
	sureByName     = 1.0
	sureBySpelling = 0.9
	sureByValues   = 0.6
	doubted        = 0.3 // the values speak against the name
)

// ownName is why a column becomes an attribute that no standard knows.
const ownName = "its own name"

// examplesShown of each attribute.
const examplesShown = 3

// Understand looks at names and values and proposes a shape. The records are a
// sample; what no value was met of is judged by its name alone.
func Understand(natives []string, records []map[string][]string) ([]Understood, Shape) {
	shape := Guess(natives)
	attributes := map[string]string{}
	for name, src := range shape.Attributes {
		if old := attributes[src.Native]; old == "" || old == "id" {
			attributes[src.Native] = name
		}
	}
	list := make([]Understood, 0, len(natives))
	for _, native := range natives {
		u := Understood{Native: native, Attribute: attributes[native], Examples: []string{}}
		if IsSecret(native) {
			u.Kind, u.Because, u.Note = "secret", "the header", "holds secrets and is never read"
			list = append(list, u)
			continue
		}
		values := u.look(records)
		u.judgeName()
		u.judgeValues(&shape, values)
		if again := numbered.FindStringSubmatch(native); again != nil && slices.Contains(natives, again[1]) {
			u.Note = strings.TrimSuffix("the header has "+again[1]+" more than once: look which is which; "+u.Note, "; ")
		}
		list = append(list, u)
	}
	proposeByValues(list, &shape)
	return list, shape
}

// numbered are the columns of one name beside the first.
var numbered = regexp.MustCompile(`^(.+) \(\d+\)$`)

// look collects the values of the attribute.
func (u *Understood) look(records []map[string][]string) []string {
	var values []string
	distinct := map[string]bool{}
	for _, r := range records {
		filled := false
		for _, v := range r[u.Native] {
			if v = strings.TrimSpace(v); v == "" {
				continue
			}
			filled = true
			values = append(values, v)
			if !distinct[v] && len(u.Examples) < examplesShown {
				u.Examples = append(u.Examples, clipped(v))
			}
			distinct[v] = true
		}
		if filled {
			u.Filled++
		}
	}
	u.Distinct = len(distinct)
	u.Counts = len(values) > 2 && countsRows(values)
	u.Kind = kindOfValues(values, distinct)
	return values
}

// countsRows: a number of the row says nothing of whom it is about.
func countsRows(values []string) bool {
	for i, v := range values {
		if v != strconv.Itoa(i+1) {
			return false
		}
	}
	return true
}

func clipped(v string) string {
	const longest = 60
	if r := []rune(v); len(r) > longest {
		return string(r[:longest]) + "…"
	}
	return v
}

func share(values []string, is func(string) bool) float64 {
	n := 0
	for _, v := range values {
		if is(v) {
			n++
		}
	}
	return float64(n) / float64(max(1, len(values)))
}

// mostly is the share of values that decides.
const mostly = 0.8

func kindOfValues(values []string, distinct map[string]bool) string {
	switch {
	case len(values) == 0:
		return "nothing"
	case share(values, isAddress) >= mostly:
		return "addresses"
	case dayLayout(values, mostly) != "":
		return "days"
	case share(values, func(v string) bool { return understoodBool(v) }) >= mostly && len(distinct) <= 4:
		return "yes or no"
	case share(values, isNumber) == 1:
		return "numbers"
	case len(distinct) <= 12 && len(values) >= 4*len(distinct):
		return "one of a few"
	}
	return "text"
}

func isAddress(v string) bool {
	local, domain, ok := strings.Cut(v, "@")
	return ok && local != "" && strings.Contains(domain, ".") && !strings.ContainsAny(v, " ;,")
}

func isNumber(v string) bool {
	return strings.IndexFunc(v, func(r rune) bool { return r < '0' || r > '9' }) < 0
}

// isSerial: a day from 1955 to 2064 as spreadsheets count.
func isSerial(v string) bool { return isNumber(v) && len(v) == 5 && v >= "20090" && v <= "60264" }

// States in the words of lists, folded: who works there, and who does not. What may
// mean a sick leave as well is not among them: that is asked.
var (
	there = []string{"active", "aktiv", "actif", "active(e)", "activo", "activa", "aktywny", "aktywna", "attivo", "ativo", "employed", "current", "working", "enabled", "beschaftigt", "angestellt", "en poste", "en activite", "vigente", "zatrudniony", "zatrudniona",
		"yes", "ja", "oui", "si", "tak", "sim", "true", "wahr", "vrai", "verdadero", "prawda"}
	away = []string{"inactive", "inaktiv", "inactif", "inactivo", "inactiva", "nieaktywny", "nieaktywna", "left", "leaver", "former", "terminated", "ended", "disabled", "ausgetreten", "ausgeschieden", "gekundigt", "parti", "partie", "sorti", "sortie", "cesado", "cesada", "zwolniony", "zwolniona", "odszedl", "odeszla", "retired",
		"no", "nein", "non", "nie", "nao", "false", "falsch", "faux", "falso", "falsz"}
)

// stated are the words of a column that says who is there, where both kinds are met
// and every one is known; as they stand, so that the shape shows what was taken for what.
func stated(values []string) (yes, no []string) {
	for _, v := range values {
		switch word := Fold(v); {
		case slices.Contains(there, word):
			yes = appendNew(yes, v)
		case slices.Contains(away, word):
			no = appendNew(no, v)
		default:
			return nil, nil
		}
	}
	if understoodAll := !slices.ContainsFunc(slices.Concat(yes, no), func(v string) bool { return !understoodBool(v) }); understoodAll || len(yes) == 0 {
		return nil, nil // needs no words, or might say the opposite
	}
	return yes, no
}

func appendNew(list []string, v string) []string {
	if slices.Contains(list, v) {
		return list
	}
	return append(list, v)
}

func understoodBool(v string) bool {
	_, err := readBool(&Source{}, v)
	return err == nil
}

// dayLayouts as they are met, the unambiguous before the others.
var dayLayouts = []string{"", "DD.MM.YYYY", "YYYY/MM/DD", "DD/MM/YYYY", "MM/DD/YYYY", "YYYYMMDD", "DD-MM-YYYY", "MM-DD-YYYY", "YYYY.MM.DD", "words", "DD.MM.YY", "DD/MM/YY", "MM/DD/YY", "DD-MM-YY",
	"DD.MM.YYYY hh:mm", "DD/MM/YYYY hh:mm", "MM/DD/YYYY hh:mm", "DD.MM.YYYY hh:mm:ss", "DD/MM/YYYY hh:mm:ss", "MM/DD/YYYY hh:mm:ss", "generalized", "filetime"}

// transposed is the same layout with day and month in the other order.
func transposed(layout string) string {
	if rest, ok := strings.CutPrefix(layout, "DD"); ok && len(rest) > 3 && rest[0] != '.' && rest[1:3] == "MM" {
		return "MM" + rest[:1] + "DD" + rest[3:]
	}
	return ""
}

// half of the values show the form of days in a column that is named for them;
// the others are typing errors.
const half = 0.5

// dayLayout is the form of which at least such a share of the values is, "iso"
// for the default one, "" for none.
func dayLayout(values []string, least float64) string {
	for _, layout := range dayLayouts {
		src := Source{Date: layout}
		n := share(values, func(v string) bool {
			day, err := readDate(&src, v, nil)
			if err != nil {
				return false
			}
			return day == "" || day > "1901" && day < "2200" // else it is a number that happens to fit
		})
		if n < least {
			continue
		}
		if layout == "" {
			return "iso"
		}
		return layout
	}
	return ""
}

func (u *Understood) judgeName() {
	_, canonical := Canonical(u.Attribute)
	switch {
	case u.Attribute == "":
		u.Because = "nothing"
	case !canonical:
		u.Confidence, u.Because = sureByName, ownName
	case strings.EqualFold(u.Native, u.Attribute):
		u.Confidence, u.Because = sureByName, "the header"
	default:
		u.Confidence, u.Because = sureBySpelling, "the header's spelling"
	}
}

// judgeValues holds the values against the attribute, and gives the shape what
// it needs to read them.
func (u *Understood) judgeValues(shape *Shape, values []string) {
	if len(values) == 0 {
		if u.Attribute != "" {
			u.Note = "no record of the sample has a value"
		}
		return
	}
	src := shape.Attributes[u.Attribute]
	u.Flag, u.TrueWords = KindOf(u.Attribute) == Bool && src.Bit == 0 && src.Present == "", src.True
	if len(src.True)+len(src.False) > 0 || src.Bit > 0 || src.Present != "" || src.Prefix != "" || src.Date != "" {
		return // somebody said how it is to be read
	}
	switch KindOf(u.Attribute) {
	case Email, Emails:
		if src.Split != "" && share(values, func(v string) bool { return isAddress(strings.TrimSpace(strings.Split(v, src.Split)[0])) }) >= mostly {
			return
		}
		if u.Kind != "addresses" {
			u.Confidence, u.Note = doubted, "most values are no addresses"
		}
	case Date:
		switch layout := dayLayout(values, half); layout {
		case "":
			if u.Kind == "numbers" && share(values, isSerial) == 1 {
				src.Date = "serial"
				shape.Attributes[u.Attribute] = src
				u.Confidence, u.Note = doubted, "read as the day numbers of a spreadsheet that lost their form; look at the examples"
				return
			}
			u.Confidence, u.Note = doubted, "most values are no days"
		case "iso":
		default:
			src.Date = layout
			shape.Attributes[u.Attribute] = src
			if other := transposed(layout); other != "" && dayLayoutFits(other, values) {
				u.Confidence, u.Note = doubted, "day and month can't be told apart: read as "+layout+"; say which it is"
			}
		}
	case Bool:
		if yes, no := stated(values); yes != nil {
			src.True, src.False = yes, no
			shape.Attributes[u.Attribute], u.TrueWords = src, yes
			return
		}
		if u.Kind != "yes or no" {
			u.Confidence, u.Note = doubted, "name the words that mean true and false, as "+strings.Join(u.Examples, ", ")
		}
	}
}

func dayLayoutFits(layout string, values []string) bool {
	src := Source{Date: layout}
	return share(values, func(v string) bool { _, err := readDate(&src, v, nil); return err == nil }) == 1
}

// proposeByValues gives attributes that no header named to columns whose values
// speak for them.
func proposeByValues(list []Understood, shape *Shape) {
	if _, has := shape.Attributes["email"]; has {
		return
	}
	for i := range list {
		u := &list[i]
		if _, canonical := Canonical(u.Attribute); canonical || u.Kind != "addresses" || u.Distinct < u.Filled {
			continue
		}
		delete(shape.Attributes, u.Attribute)
		u.Attribute, u.Confidence, u.Because = "email", sureByValues, "its values"
		shape.Attributes["email"] = Source{Native: u.Native}
		return
	}
}

// NativesOf lists the native attributes met in records, those of the shape
// first.
func NativesOf(shape Shape, records []map[string][]string) []string {
	seen := map[string]bool{}
	var list []string
	for _, name := range shape.Canonical() {
		src := shape.Attributes[name]
		for _, n := range []string{src.Native, src.Refers} {
			if n != "" && !seen[n] {
				seen[n] = true
				list = append(list, n)
			}
		}
	}
	more := map[string]bool{}
	for _, r := range records {
		for n := range r {
			more[n] = more[n] || !seen[n]
		}
	}
	for _, n := range slices.Sorted(maps.Keys(more)) {
		if more[n] {
			list = append(list, n)
		}
	}
	return list
}

// Feeding notes what else every native attribute feeds in a shape.
func (s Shape) Feeding(list []Understood) []Understood {
	out := slices.Clone(list)
	for i := range out {
		out[i].Also = nil
		for _, name := range s.Canonical() {
			if src := s.Attributes[name]; src.Native == out[i].Native && name != out[i].Attribute && out[i].Attribute != "" {
				out[i].Also = append(out[i].Also, name)
			}
		}
	}
	return out
}

// Held tells what a shape makes of native attributes, and what of their values
// speaks against it.
func (s Shape) Held(list []Understood, records []map[string][]string) []Understood {
	out := slices.Clone(list)
	s.Attributes = maps.Clone(s.Attributes) // nothing is fitted here
	for i := range out {
		u := &out[i]
		if u.Kind == "secret" {
			continue
		}
		u.Attribute, u.Note = "", ""
		for _, name := range s.Canonical() {
			if s.Attributes[name].Native == u.Native && (u.Attribute == "" || u.Attribute == "id") {
				u.Attribute = name
			}
		}
		if u.Attribute == "" {
			u.Confidence, u.Because = 0, "nothing"
			continue
		}
		u.Confidence, u.Because = 1, "the shape"
		u.judgeValues(&s, valuesOf(u.Native, records))
	}
	return out
}

// Fit gives the shape what it needs to read an attribute as its values are.
func (s Shape) Fit(attribute string, records []map[string][]string) Shape {
	u := Understood{Native: s.Attributes[attribute].Native, Attribute: attribute}
	s.Attributes = maps.Clone(s.Attributes)
	u.judgeValues(&s, u.look(records))
	return s
}

// Words says which values of a native attribute mean true; all others that the
// records have mean false.
func (s Shape) Words(native string, trueWords []string, records []map[string][]string) Shape {
	s.Attributes = maps.Clone(s.Attributes)
	for name, src := range s.Attributes {
		if src.Native != native || KindOf(name) != Bool {
			continue
		}
		src.True, src.False = slices.Clone(trueWords), nil
		for _, v := range valuesOf(native, records) {
			if !slices.Contains(src.True, v) && !slices.Contains(src.False, v) {
				src.False = append(src.False, v)
			}
		}
		s.Attributes[name] = src
	}
	return s
}

func valuesOf(native string, records []map[string][]string) (values []string) {
	for _, r := range records {
		for _, v := range r[native] {
			if v = strings.TrimSpace(v); v != "" {
				values = append(values, v)
			}
		}
	}
	return values
}
