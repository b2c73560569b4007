package record

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"twinning/internal/core/calendar"
)

// dateWords turn a layout as people write it into Go's.
var dateWords = strings.NewReplacer("YYYY", "2006", "YY", "06", "MM", "01", "DD", "02", "hh", "15", "mm", "04", "ss", "05")

// dateCodings are named forms of a date besides layouts.
var dateCodings = map[string]struct {
	read  func(string) (time.Time, bool) // ok is false when it can't be understood; a zero time means "never"
	write func(time.Time) string
	// wholeDays: it counts days, and says no instant
	wholeDays bool
}{
	// RFC 4517 section 3.3.13
	"generalized": {read: readGeneralized, write: func(t time.Time) string { return t.UTC().Format("20060102150405") + "Z" }},
	// hundreds of nanoseconds since 1601; 0 and the largest number mean never
	"filetime": {
		read: counted(func(n int64) time.Time {
			if n == 0 || n == 1<<63-1 {
				return time.Time{}
			}
			return time.Unix(n/1e7-epoch1601, 0).UTC()
		}),
		write: func(t time.Time) string { return strconv.FormatInt((t.Unix()+epoch1601)*1e7, 10) },
	},
	// days since 1970, as in the shadow attributes of RFC 2307; -1 means never
	"days": {
		read: counted(func(n int64) time.Time {
			if n < 0 {
				return time.Time{}
			}
			return time.Unix(n*86400, 0).UTC()
		}),
		write:     func(t time.Time) string { return strconv.FormatInt(t.Unix()/86400, 10) },
		wholeDays: true,
	},
	// days as spreadsheets count them, where a date has lost its form
	"serial": {
		read: counted(func(n int64) time.Time {
			if n <= 0 {
				return time.Time{}
			}
			return time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC).AddDate(0, 0, int(min(n, 3_000_000)))
		}),
		write: func(t time.Time) string {
			return strconv.FormatInt(t.Unix()/86400+25569, 10)
		},
		wholeDays: true,
	},
	// 1 March 2019, March 1st, 2019, 01-Mar-19, 1er mars 2019, 1 de marzo de 2019
	"words": {read: readWordedDay, wholeDays: true},
	"seconds": {
		read:  counted(func(n int64) time.Time { return time.Unix(n, 0).UTC() }),
		write: func(t time.Time) string { return strconv.FormatInt(t.Unix(), 10) },
	},
	"milliseconds": {
		read:  counted(func(n int64) time.Time { return time.UnixMilli(n).UTC() }),
		write: func(t time.Time) string { return strconv.FormatInt(t.UnixMilli(), 10) },
	},
}

// epoch1601 is 1601-01-01 in seconds before 1970.
const epoch1601 = 11644473600

func counted(at func(int64) time.Time) func(string) (time.Time, bool) {
	return func(v string) (time.Time, bool) {
		n, err := strconv.ParseInt(v, 10, 64)
		return at(n), err == nil
	}
}

// months by the folded beginnings of their names in English, German, French, Spanish
// and Polish; the longest that fits counts.
var months = map[string]time.Month{
	"jan": 1, "ene": 1, "sty": 1, "feb": 2, "fev": 2, "lut": 2, "mar": 3, "mrz": 3, "apr": 4, "avr": 4, "abr": 4, "kwi": 4, "may": 5, "mai": 5, "maj": 5,
	"jun": 6, "juin": 6, "cze": 6, "jul": 7, "juil": 7, "lip": 7, "aug": 8, "aou": 8, "ago": 8, "sie": 8, "sep": 9, "set": 9, "wrz": 9,
	"oct": 10, "okt": 10, "paz": 10, "nov": 11, "lis": 11, "dec": 12, "dez": 12, "dic": 12, "gru": 12,
}

func month(word string) time.Month {
	for n := 4; n >= 3; n-- {
		if len(word) >= n {
			if m, ok := months[word[:n]]; ok {
				return m
			}
		}
	}
	return 0
}

// fillers stand between the parts of a day in words.
var fillers = []string{"de", "del", "of", "the", "le", "el", "den", "der", "r"}

// readWordedDay reads a day whose month is a word; a weekday before it is passed over.
func readWordedDay(v string) (time.Time, bool) {
	if len(v) > 60 {
		return time.Time{}, false
	}
	var m time.Month
	var numbers []string
	for _, token := range strings.FieldsFunc(Fold(v), func(r rune) bool { return (r < 'a' || r > 'z') && (r < '0' || r > '9') }) {
		figures := strings.TrimRight(token, "abcdefghijklmnopqrstuvwxyz") // 1st, 1er
		switch {
		case figures != "" && len(token)-len(figures) <= 2 && strings.Trim(figures, "0123456789") == "":
			numbers = append(numbers, figures)
		case slices.Contains(fillers, token):
		case month(token) > 0 && m == 0:
			m = month(token)
		case month(token) > 0 || figures != "" || len(numbers) > 0 || m > 0:
			return time.Time{}, false
		}
	}
	if m == 0 || len(numbers) != 2 {
		return time.Time{}, false
	}
	day, year := numbers[0], numbers[1]
	if len(day) == 4 {
		day, year = year, day
	}
	d, err := strconv.Atoi(day)
	y, also := strconv.Atoi(year)
	if err != nil || also != nil || len(year) != 4 && len(year) != 2 {
		return time.Time{}, false
	}
	if len(year) == 2 {
		if y += 1900; y < 1969 { // as layouts with YY
			y += 100
		}
	}
	t := time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
	return t, t.Day() == d && t.Month() == m
}

func readGeneralized(v string) (time.Time, bool) {
	for _, layout := range []string{"20060102150405Z0700", "20060102150405.999999Z0700", "200601021504Z0700", "2006010215Z0700"} {
		if t, err := time.Parse(layout, strings.ReplaceAll(v, ",", ".")); err == nil {
			return t.UTC(), true
		}
	}
	return time.Time{}, false
}

// readDate reads a calendar day. What says an instant falls on the day that it is in
// the zone; what says only a day, or a time without a zone, is that day everywhere.
func readDate(src *Source, v string, zone *time.Location) (string, error) {
	if coding, ok := dateCodings[src.Date]; ok {
		t, ok := coding.read(v)
		switch {
		case !ok:
			return "", &ValueError{src.Native, fmt.Sprintf("%q is not a time in the coding %s", v, src.Date)}
		case t.IsZero():
			return "", nil
		case t.Year() < 1 || t.Year() > 9999:
			return "", &ValueError{src.Native, fmt.Sprintf("%q is a time in the year %d", v, t.Year())}
		case coding.wholeDays:
			return calendar.Day(t, nil), nil
		}
		return calendar.Day(t, zone), nil
	}
	if src.Date != "" {
		layout := dateWords.Replace(src.Date)
		if strings.ContainsAny(src.Date, "./- ") { // 3.4.2019 is what 03.04.2019 is
			layout = strings.NewReplacer("02", "2", "01", "1").Replace(layout)
		}
		t, err := time.Parse(layout, v)
		if err != nil {
			return "", &ValueError{src.Native, fmt.Sprintf("%q is not a date of the form %s", v, src.Date)}
		}
		return calendar.Day(t, nil), nil
	}
	if len(v) >= 10 && calendar.IsDay(v[:10]) && (len(v) == 10 || v[10] == 'T' || v[10] == ' ') {
		if len(v) == 10 {
			return v, nil
		}
		if t, err := time.Parse(time.RFC3339, strings.Replace(v, " ", "T", 1)); err == nil {
			return calendar.Day(t, zone), nil
		}
		return v[:10], nil
	}
	return "", &ValueError{src.Native, fmt.Sprintf("%q is not an ISO date (YYYY-MM-DD); name its form in the shape: {from: %s, date: DD.MM.YYYY}", v, src.Native)}
}

// readFlag reads a bit inside a number, or whether there is any value.
func readFlag(src *Source, values []string) (string, error) {
	set := len(values) > 0 && strings.TrimSpace(values[0]) != ""
	if src.Bit > 0 {
		if !set {
			return "", nil
		}
		n, err := strconv.ParseInt(strings.TrimSpace(values[0]), 10, 64)
		if err != nil {
			return "", &ValueError{src.Native, fmt.Sprintf("%q is not a number, so its bit %d can't be read", values[0], src.Bit)}
		}
		set = uint32(n)&src.Bit != 0 // flags are the low 32 bits, whatever the sign
	}
	return strconv.FormatBool(set == src.Means), nil
}

func prefixed(prefix string, values []string) (out []string) {
	for _, v := range values {
		if rest, ok := strings.CutPrefix(v, prefix); ok {
			out = append(out, rest)
		}
	}
	return out
}

// Encode turns canonical values of the attribute into what the system takes,
// given the native values as they are now: the way back of Cell, in the same zone.
// What the source does not speak of stays: other bits, values with another prefix.
func (s Source) Encode(kind Kind, canonical, native []string, zone *time.Location) ([]string, error) {
	one := ""
	if len(canonical) > 0 {
		one = canonical[0]
	}
	switch {
	case s.Bit > 0:
		now := int64(0)
		if len(native) > 0 && native[0] != "" {
			n, err := strconv.ParseInt(native[0], 10, 64)
			if err != nil {
				return nil, &ValueError{s.Native, fmt.Sprintf("%q is not a number, so its bit %d can't be set", native[0], s.Bit)}
			}
			now = n
		}
		if (one == "true") == s.Means {
			now |= int64(s.Bit)
		} else {
			now &^= int64(s.Bit)
		}
		return []string{strconv.FormatInt(now, 10)}, nil
	case s.Present != "":
		if (one == "true") == s.Means {
			return []string{s.Present}, nil
		}
		return nil, nil
	case s.Prefix != "":
		out := slices.DeleteFunc(slices.Clone(native), func(v string) bool { return strings.HasPrefix(v, s.Prefix) })
		for _, v := range canonical {
			out = append(out, s.Prefix+v)
		}
		return out, nil
	case len(canonical) == 0:
		return nil, nil
	case kind == Bool || len(s.True)+len(s.False) > 0:
		if words := map[string][]string{"true": s.True, "false": s.False}[one]; len(words) > 0 {
			return words[:1], nil
		}
		if len(s.True)+len(s.False) > 0 {
			return nil, &ValueError{s.Native, fmt.Sprintf("the shape names no word that means %s", one)}
		}
	case s.Date != "":
		coding, coded := dateCodings[s.Date]
		if !coded || coding.wholeDays {
			zone = nil
		}
		t, err := calendar.Begin(one, zone)
		if err != nil {
			return nil, &ValueError{s.Native, err.Error()}
		}
		switch {
		case coded && coding.write == nil:
			return nil, &ValueError{s.Native, fmt.Sprintf("a day is not written in %s; name a form such as DD.MM.YYYY in the shape", s.Date)}
		case coded:
			return []string{coding.write(t)}, nil
		}
		return []string{t.Format(dateWords.Replace(s.Date))}, nil
	case kind.Multi() && s.Split != "":
		return []string{strings.Join(canonical, s.Split)}, nil
	}
	return canonical, nil
}
