package filter_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/filter"
)

func TestParse(t *testing.T) {
	fields := map[string]bool{"verb": true, "department": true, "class": true}
	for text, want := range map[string]string{
		``:             `|`,
		`soto`:         `|soto`,
		`verb:suspend`: `verb=suspend|`,
		`verb:suspend department:"Night crew"  -class:guest soto  ana`: `verb=suspend department=Night crew -class=guest|soto ana`,
		`VERB:set`:              `verb=set|`,
		`department:Ki*`:        `department=Ki…|`,
		`department:"Ki*"`:      `department=Ki*|`,
		`class:`:                `class=|`,
		`-class:`:               `-class=|`,
		`urn:scim x:y`:          `|urn:scim x:y`,
		`"verb:suspend"`:        `|verb:suspend`,
		`department:"Night cr`:  `department=Night cr|`,
		`department:a:b`:        `department=a:b|`,
		`-soto`:                 `|-soto`,
		`department:Ночь ночью`: `department=Ночь|ночью`,
	} {
		terms, words := filter.Parse(text, func(n string) bool { return fields[n] })
		var got []string
		for _, x := range terms {
			got = append(got, fmt.Sprintf("%s%s=%s%s", map[bool]string{true: "-"}[x.Not], x.Field, x.Value, map[bool]string{true: "…"}[x.Begin]))
		}
		require.Equal(t, want, strings.Join(got, " ")+"|"+words, text)
	}
}
