package cli

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// settings are what --set gives: name=value, several after one another with commas.
// A comma in a value stays, as in bind=cn=reader,dc=larkspur,dc=example: another
// setting begins only where a name of one follows.
type settings map[string]string

// nextSetting is where another setting begins. Names of settings have three letters
// or more, and are none of those that distinguished names are made of.
var nextSetting = regexp.MustCompile(`,([a-z][a-z-]{2,})=`)

func (s settings) Set(text string) error {
	for _, part := range splitSettings(text) {
		part = strings.Trim(part, `"`)
		name, value, ok := strings.Cut(part, "=")
		if !ok || name == "" {
			return fmt.Errorf("%q: expected name=value", part)
		}
		s[strings.TrimSpace(name)] = value
	}
	return nil
}

func splitSettings(text string) (parts []string) {
	from := 0
	for _, at := range nextSetting.FindAllStringSubmatchIndex(text, -1) {
		if name := text[at[2]:at[3]]; name != "uid" {
			parts, from = append(parts, text[from:at[0]]), at[2]
		}
	}
	return append(parts, text[from:])
}

func (s settings) String() string {
	var words []string
	for _, name := range slices.Sorted(maps.Keys(s)) {
		words = append(words, name+"="+s[name])
	}
	return strings.Join(words, ",")
}

// Type names the flag's values in the help.
func (s settings) Type() string { return "name=value,…" }

// setFlag adds --set.
func setFlag(cmd *cobra.Command, usage string) {
	cmd.Flags().Var(settings{}, "set", usage)
}

// settings are those that --set gave, none when it was not given.
func (c *client) settings() map[string]string {
	s, _ := c.cmd.Flags().Lookup("set").Value.(settings)
	return s
}
