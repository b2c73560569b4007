package cli

import (
	"fmt"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/app"
	"twinning/internal/format"
)

// newDelivery tells what the holders of accounts were sent, and hands files over.
func newDelivery() *cobra.Command {
	list := searchFlag(pageFlags(running("list LANE", "Secrets and invitations that were sent, the newest first, and what became of them", exact("LANE"), func(c *client, args []string) error {
		run, _ := c.cmd.Flags().GetInt64("run")
		p := apiclient.ListDeliveriesParams{Verb: chosen[apiclient.ListDeliveriesParamsVerb](c, "verb"), State: chosen[apiclient.DeliveryState](c, "state"), Q: c.given("search")}
		if run > 0 {
			p.Run = &run
		}
		v, err := gather[apiclient.Delivery](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			p.Count, p.Cursor, p.Limit = c.counted(), cursor, limit
			return c.ListDeliveries(c.ctx, args[0], &p)
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, d := range v.Items {
			rows = append(rows, []string{fmt.Sprint(d.Run), d.At.Local().Format("2006-01-02 15:04"), string(d.Verb), d.Label, d.Login, sentBy(d), becameOf(d)})
		}
		return showList(c, v, []string{"run", "at", "verb", "whose", "login", "how", "state"}, rows)
	})))
	list.Flags().String("verb", "", "only this verb: reissue or invite")
	list.Flags().String("state", "", "only those in this state, such as stale")
	list.Flags().Int64("run", 0, "only those of this run")

	collect := running("collect RUN", "Take the secrets of a run that wait for it, once, as a file that is encrypted to a passphrase", exact("RUN"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		if c.flag("out") == "" {
			return misuse("expected --out: nobody can take the file a second time")
		}
		passphrase, err := c.passphrase()
		if err != nil {
			return err
		}
		// what can't be kept is not taken: nobody takes it a second time
		f, err := os.OpenFile(c.flag("out"), os.O_WRONLY|os.O_CREATE, 0o600)
		if err != nil {
			return fmt.Errorf("nothing was collected: %w", err)
		}
		if err := f.Close(); err != nil {
			return err
		}
		res, err := c.CollectSecrets(c.ctx, id, apiclient.CollectInput{Passphrase: passphrase})
		if err := c.save(res, err); err != nil {
			return err
		}
		c.say("nobody can take them again; open it with: twinning delivery open %s. Tell the passphrase on another way than the file", c.flag("out"))
		return nil
	})
	outFlag(collect)
	passphraseFlag(collect)

	open := &cobra.Command{Use: "open FILE", Short: "Read a file of secrets, without the service; any program that knows age-encryption.org/v1 does, too", Args: exact("FILE"), RunE: func(cmd *cobra.Command, args []string) error {
		c, err := local(cmd)
		if err != nil {
			return err
		}
		f, err := format.RegularAt(args[0])
		if err != nil {
			return err
		}
		defer f.Close() // only read
		passphrase, err := c.passphrase()
		if err != nil {
			return err
		}
		text, err := app.OpenSecrets(passphrase, f)
		if err != nil {
			return err
		}
		_, err = c.cmd.OutOrStdout().Write(text)
		return err
	}}
	passphraseFlag(open)
	return group("delivery", "Secrets and invitations that the holders of accounts were sent", list, collect, open)
}

func sentBy(d apiclient.Delivery) string {
	how := value(d.To)
	if how == "" {
		how = "file"
	}
	if s := value(d.Sponsor); s != "" {
		how += ", vouched for by " + s
	}
	return how
}

func becameOf(d apiclient.Delivery) string {
	s := string(d.State)
	if d.Until != nil && (d.State == "kept" || d.State == "sent" || d.State == "stale") {
		s += map[bool]string{true: " since ", false: " until "}[d.State == "stale"] + d.Until.Local().Format("2006-01-02 15:04")
	}
	if by := value(d.CollectedBy); by != "" {
		s += " by " + by
	}
	if d.Times > 1 {
		s += fmt.Sprintf(" (%d times)", d.Times)
	}
	return s
}

func passphraseFlag(cmd *cobra.Command) {
	cmd.Flags().String("passphrase-file", "", "file that holds it; otherwise it is asked for")
}

// passphrase is what a file is encrypted to: from a file, or one line that is not shown.
func (c *client) passphrase() (string, error) {
	path := c.flag("passphrase-file")
	if path == "" {
		return c.password("passphrase")
	}
	text, err := os.ReadFile(path)
	return strings.TrimRight(string(text), "\r\n"), err
}
