package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/pairing"
)

// newRosterKeys is the key survey: of two systems in the service, or of two
// files without one.
func newRosterKeys() *cobra.Command {
	o := &offline{}
	cmd := &cobra.Command{
		Use:   "keys [AUTHORITY DOWNSTREAM]",
		Short: "Which attributes would identify, of two systems or of two files, before any charter exists",
		Long: `For every attribute of the people held against every one of the accounts: how
many records carry it, how often a value is one record's alone, how many pairs
it would make, and how often it contradicts a better key. A function in an
expression mends two ways of writing one value. Last comes a pairing section to
paste into a charter.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 && o.people != "" && o.accounts != "" {
				return nil
			}
			if len(args) != 2 {
				return misuse("%s needs the two systems, AUTHORITY and DOWNSTREAM, or --people FILE and --accounts FILE", cmd.CommandPath())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return o.surveyKeys(cmd)
			}
			c, err := connect(cmd)
			if err != nil {
				return err
			}
			var v apiclient.KeySurvey
			res, err := c.SurveyKeys(c.ctx, &apiclient.SurveyKeysParams{Authority: args[0], Downstream: args[1]})
			if err := ask(&v, res, err); err != nil {
				return err
			}
			keys := make([]pairing.SurveyKey, len(v.Keys))
			for i, k := range v.Keys {
				keys[i] = pairing.SurveyKey{Person: k.Person, Account: k.Account, PersonFilled: k.PersonFilled, AccountFilled: k.AccountFilled, PersonUnique: k.PersonUnique, AccountUnique: k.AccountUnique,
					Overlap: k.Overlap, Pairs: k.Pairs, Shared: k.Shared, Disagree: k.Disagree, OnlyHere: k.OnlyHere, Mends: value(k.Mends)}
			}
			return drawSurvey(c, v, pairing.Survey{People: v.People, Accounts: v.Accounts, Keys: keys, Suggested: v.Suggested})
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.people, "people", "", "the authority's list, instead of a system")
	f.StringVar(&o.accounts, "accounts", "", "the downstream's list")
	f.StringVar(&o.peopleShape, "people-shape", "", "how the people's columns are to be read (YAML); guessed when not given")
	f.StringVar(&o.accountsShape, "accounts-shape", "", "how the accounts' columns are to be read (YAML); guessed when not given")
	o.idFlags(cmd)
	o.fileFlags(cmd)
	return cmd
}

func (o *offline) surveyKeys(cmd *cobra.Command) error {
	opt, err := o.options()
	if err != nil {
		return err
	}
	read := func(name, path, shape, id string) func() (*side, error) {
		return func() (*side, error) {
			s, err := openSide(name, path, shape, id, opt)
			if err != nil {
				return nil, err
			}
			return s, s.read(nil)
		}
	}
	people, accounts, err := both(read("people", o.people, o.peopleShape, o.peopleID), read("accounts", o.accounts, o.accountsShape, o.accountsID))
	if err != nil {
		return err
	}
	people.tell(cmd.ErrOrStderr())
	accounts.tell(cmd.ErrOrStderr())
	s := pairing.SurveyKeys(people.roster, accounts.roster)
	c, err := local(cmd)
	if err != nil {
		return err
	}
	return drawSurvey(c, s, s)
}

func drawSurvey(c *client, whole any, s pairing.Survey) error {
	var rows [][]string
	for _, k := range s.Keys {
		rows = append(rows, []string{
			k.Person, k.Account, share(k.PersonFilled, s.People), share(k.PersonUnique, k.PersonFilled), share(k.AccountFilled, s.Accounts), share(k.AccountUnique, k.AccountFilled),
			thousands(k.Pairs), thousands(k.OnlyHere), thousands(k.Shared), thousands(k.Disagree),
		})
	}
	if err := c.show(whole, []string{"of the people", "of the accounts", "carry it>", "alone>", "carry it>", "alone>", "pairs>", "new>", "shared>", "contradict>"}, rows); err != nil || c.format != "table" {
		return err
	}
	if s.Suggested == "" {
		c.say("nothing here identifies on both sides: look at the shapes, or ask the systems' owners for a number that both keep")
		return nil
	}
	_, err := io.WriteString(c.cmd.OutOrStdout(), fmt.Sprintf("\n# a pairing section to start from\n%s", s.Suggested))
	return err
}
