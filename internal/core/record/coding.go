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
var dateWords = strings.NewReplacer("YYYY", "2006", "MM", "01", "DD", "02", "hh", "15", "mm", "04", "ss", "05")

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
	case kind == Bool:
		if words := map[string][]string{"true": s.True, "false": s.False}[one]; len(words) > 0 {
			return words[:1], nil
		}
		if len(s.True)+len(s.False) > 0 {
			return nil, &ValueError{s.Native, fmt.Sprintf("the shape names no word that means %s", one)}
		}
	case kind == Date && s.Date != "":
		coding, coded := dateCodings[s.Date]
		if !coded || coding.wholeDays {
			zone = nil
		}
		t, err := calendar.Begin(one, zone)
		if err != nil {
			return nil, &ValueError{s.Native, err.Error()}
		}
		if coded {
			return []string{coding.write(t)}, nil
		}
		return []string{t.Format(dateWords.Replace(s.Date))}, nil
	case kind.Multi() && s.Split != "":
		return []string{strings.Join(canonical, s.Split)}, nil
	}
	return canonical, nil
}
