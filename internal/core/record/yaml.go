package record

import (
	"fmt"
	"strings"
)

// YAML writes the shape as a document that ParseShape reads back.
func (s Shape) YAML() string {
	var b strings.Builder
	b.WriteString("shape:\n")
	for _, name := range s.Canonical() {
		src := s.Attributes[name]
		if src.Native == "" {
			continue
		}
		if more := src.details(); more == "" {
			fmt.Fprintf(&b, "  %s: %s\n", name, word(src.Native))
		} else {
			fmt.Fprintf(&b, "  %s: {from: %s%s}\n", name, word(src.Native), more)
		}
	}
	fmt.Fprintf(&b, "stable: %t\n", s.Stable)
	if s.Mark != "" {
		fmt.Fprintf(&b, "mark: %s\n", s.Mark)
	}
	if s.LeaveUnnamed {
		b.WriteString("unnamed: leave-out\n")
	}
	if len(s.Classes) > 0 {
		fmt.Fprintf(&b, "classes: [%s]\n", strings.Join(s.Classes, ", "))
	}
	if s.Upload != nil {
		s.Upload.yaml(&b)
	}
	return b.String()
}

// details are the source's further fields, each led by a comma.
func (s Source) details() string {
	var b strings.Builder
	add := func(name, value string) {
		if value != "" {
			fmt.Fprintf(&b, ", %s: %s", name, value)
		}
	}
	text := func(v string) string {
		if v == "" {
			return ""
		}
		return fmt.Sprintf("%q", v)
	}
	list := func(words []string) string {
		if len(words) == 0 {
			return ""
		}
		return "[" + quoteAll(words) + "]"
	}
	add("split", text(s.Split))
	add("true", list(s.True))
	add("false", list(s.False))
	if s.Date != "" {
		add("date", word(s.Date))
	}
	if s.Bit > 0 {
		add("bit", fmt.Sprint(s.Bit))
	}
	add("present", text(s.Present))
	if s.Bit > 0 || s.Present != "" {
		add("means", fmt.Sprint(s.Means))
	}
	add("prefix", text(s.Prefix))
	add("coding", s.Coding)
	if s.Refers != "" {
		add("refers", word(s.Refers))
	}
	return b.String()
}

func quoteAll(list []string) string {
	out := make([]string, len(list))
	for i, w := range list {
		out[i] = fmt.Sprintf("%q", w)
	}
	return strings.Join(out, ", ")
}

// word quotes a native name unless it is plainly a word.
func word(s string) string {
	if ValidName(strings.ReplaceAll(s, ".", "_")) {
		return s
	}
	return fmt.Sprintf("%q", s)
}
