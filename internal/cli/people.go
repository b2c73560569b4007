package cli

import (
	"bufio"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"twinning/internal/apiclient"
)

// running makes a command that talks to a service.
func running(use, short string, args cobra.PositionalArgs, run func(c *client, args []string) error) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: args, RunE: func(cmd *cobra.Command, args []string) error {
		c, err := connect(cmd)
		if err != nil {
			return err
		}
		return run(c, args)
	}}
}

// say tells a person what happened; machines read standard output.
func (c *client) say(format string, args ...any) {
	fmt.Fprintf(c.cmd.ErrOrStderr(), format+"\n", args...)
}

// tell says what came of an act: to a person in a sentence, to a machine as the thing
// that it is now.
func (c *client) tell(whole any, format string, args ...any) error {
	if c.format != "table" {
		return c.show(whole, nil, nil)
	}
	c.say(format, args...)
	return nil
}

// destroying is a command that asks before it does it.
func destroying(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().Bool("yes", false, "do it without being asked, for scripts")
	return cmd
}

// sure says what goes, and wants a yes.
func (c *client) sure(format string, args ...any) error {
	what := fmt.Sprintf(format, args...)
	switch {
	case c.on("yes"):
		return nil
	case !isTerminal(c.cmd.InOrStdin()):
		return misuse("%s. Nothing was done; say --yes when that is meant", what)
	}
	c.asksAt("%s.\nType yes to do it: ", what)
	answer := ""
	if _, err := fmt.Fscanln(c.cmd.InOrStdin(), &answer); err != nil || answer != "yes" {
		return errors.New("nothing was done")
	}
	return nil
}

// asksAt says something that an answer is typed behind.
func (c *client) asksAt(format string, args ...any) {
	fmt.Fprintf(c.cmd.ErrOrStderr(), format, args...)
}

func (c *client) flag(name string) string {
	v, _ := c.cmd.Flags().GetString(name)
	return v
}

func (c *client) on(name string) bool {
	v, _ := c.cmd.Flags().GetBool(name)
	return v
}

// given is a flag's value as an optional parameter.
func (c *client) given(name string) *string {
	if v := c.flag(name); v != "" {
		return &v
	}
	return nil
}

// chosen is given for a parameter that has certain values only; the service says
// which when it is none of them.
func chosen[T ~string](c *client, name string) *T {
	if v := T(c.flag(name)); v != "" {
		return &v
	}
	return nil
}

func newSignIn() *cobra.Command {
	cmd := running("sign-in", "Sign in; later commands use the session", exact(), func(c *client, _ []string) error {
		password := os.Getenv("TWINNING_PASSWORD")
		if password == "" {
			var err error
			if password, err = c.password("password"); err != nil {
				return err
			}
		}
		res, err := c.SignIn(c.ctx, apiclient.SignIn{Name: c.flag("name"), Password: password})
		var who apiclient.Me
		if err := ask(&who, res, err); err != nil {
			return err
		}
		kept := credentials{Address: strings.TrimSuffix(c.Server, "/v1/")}
		for _, k := range res.Cookies() {
			if strings.TrimPrefix(k.Name, "__Host-") == sessionCookie {
				kept.Session = k.Value
			}
		}
		if err := kept.save(); err != nil {
			return err
		}
		c.say("signed in at %s as %s with the rights %s", kept.Address, who.Name, rights(who.Rights, who.Lanes))
		return nil
	})
	cmd.Flags().String("name", "admin", "user name")
	cmd.Long = "Sign in; later commands use the session. The password is read from standard input, or from TWINNING_PASSWORD. Scripts had better use a token in TWINNING_TOKEN."
	return cmd
}

func newSignOut() *cobra.Command {
	return running("sign-out", "End the session", exact(), func(c *client, _ []string) error {
		res, err := c.SignOut(c.ctx)
		if err := ask(nil, res, err); err != nil {
			return err
		}
		return credentials{}.save()
	})
}

// rights tells rights as --rights takes them.
func rights(list []apiclient.Right, lanes apiclient.Lanes) string {
	words := make([]string, len(list))
	for i, r := range list {
		words[i] = string(r)
	}
	for _, lane := range sortedKeys(lanes) {
		for _, r := range lanes[lane] {
			words = append(words, string(r)+"@"+lane)
		}
	}
	return strings.Join(words, ", ")
}

// parseRights reads "look, work@LANE".
func parseRights(text string) (list []apiclient.Right, lanes apiclient.Lanes) {
	list, lanes = []apiclient.Right{}, apiclient.Lanes{}
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		right, lane, limited := strings.Cut(word, "@")
		if limited {
			lanes[lane] = append(lanes[lane], apiclient.Right(right))
		} else {
			list = append(list, apiclient.Right(right))
		}
	}
	return list, lanes
}

const rightsHelp = "comma-separated: look, work, seal, overrule, administer; work, seal and overrule also for one lane: seal@LANE"

// password reads one line that is not shown on a terminal.
func (c *client) password(what string) (string, error) {
	c.asksAt("%s: ", what)
	if f, ok := c.cmd.InOrStdin().(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		line, err := term.ReadPassword(int(f.Fd()))
		c.say("")
		return string(line), err
	}
	line, err := c.typed().ReadString('\n')
	if err != nil && line == "" {
		return "", misuse("no password given on standard input")
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// typed is standard input, line by line.
func (c *client) typed() *bufio.Reader {
	if c.in == nil {
		c.in = bufio.NewReader(c.cmd.InOrStdin())
	}
	return c.in
}

func newPassword() *cobra.Command {
	return running("password", "Change your own password; it is read from standard input", exact(), func(c *client, _ []string) error {
		old, err := c.password("present password")
		if err != nil {
			return err
		}
		next, err := c.password("new password")
		if err != nil {
			return err
		}
		res, err := c.ChangePassword(c.ctx, apiclient.PasswordChange{Old: old, Password: next})
		if err := ask(nil, res, err); err != nil {
			return err
		}
		c.say("the password is changed; your other sessions have ended")
		return nil
	})
}

func newUser() *cobra.Command {
	list := running("list", "All users", exact(), func(c *client, _ []string) error {
		var v apiclient.UserList
		res, err := c.ListUsers(c.ctx)
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, u := range v.Items {
			rows = append(rows, []string{u.Name, rights(u.Rights, u.Lanes), day(u.Created)})
		}
		return c.show(v, []string{"name", "rights", "since"}, rows)
	})
	add := running("add NAME", "Add a user", exact("NAME"), func(c *client, args []string) error {
		list, lanes := parseRights(c.flag("rights"))
		in := apiclient.NewUser{Name: args[0], Rights: list, Lanes: &lanes}
		if c.on("with-password") {
			password, err := c.password("password")
			if err != nil {
				return err
			}
			in.Password = &password
		}
		res, err := c.CreateUser(c.ctx, nil, in)
		if err := ask(nil, res, err); err != nil {
			return err
		}
		c.say("user %s added; without a password they need a token: twinning user token add %s", args[0], args[0])
		return nil
	})
	add.Flags().String("rights", "look", rightsHelp)
	add.Flags().Bool("with-password", false, "read a password from standard input")
	remove := destroying(running("remove NAME", "Remove a user with all tokens and sessions", exact("NAME"), func(c *client, args []string) error {
		if err := c.sure("user %s goes with all tokens and sessions; what they did stays in the trail", args[0]); err != nil {
			return err
		}
		res, err := c.RemoveUser(c.ctx, args[0])
		if err := ask(nil, res, err); err != nil {
			return err
		}
		c.say("user %s is removed", args[0])
		return nil
	}))
	may := running("rights NAME", "Change what a user may do", exact("NAME"), func(c *client, args []string) error {
		list, lanes := parseRights(c.flag("rights"))
		var u apiclient.User
		tag, err := validator(c.GetUser(c.ctx, args[0]))
		if err != nil {
			return err
		}
		res, err := c.SetRights(c.ctx, args[0], &apiclient.SetRightsParams{IfMatch: tag}, apiclient.RightsInput{Rights: list, Lanes: &lanes})
		if err := ask(&u, res, err); err != nil {
			return err
		}
		c.say("%s may now: %s", u.Name, rights(u.Rights, u.Lanes))
		return nil
	})
	may.Flags().String("rights", "", rightsHelp)
	_ = may.MarkFlagRequired("rights")
	reset := running("reset NAME", "Give a user a new password; it is printed only now, and their sessions end", exact("NAME"), func(c *client, args []string) error {
		var v apiclient.NewPassword
		res, err := c.ResetPassword(c.ctx, args[0])
		if err := ask(&v, res, err); err != nil {
			return err
		}
		fmt.Fprintln(c.cmd.OutOrStdout(), v.Password)
		c.say("%s should change it at once: twinning password", args[0])
		return nil
	})
	return group("user", "People and programs that use Twinning", list, add, may, remove, reset, newToken())
}

func newToken() *cobra.Command {
	make := running("add NAME", "Make a bearer token for a user; it is printed only now", exact("NAME"), func(c *client, args []string) error {
		days, _ := c.cmd.Flags().GetInt("days")
		var v apiclient.Token
		res, err := c.CreateToken(c.ctx, args[0], nil, apiclient.NewToken{Name: c.flag("for"), Days: &days})
		if err := ask(&v, res, err); err != nil {
			return err
		}
		fmt.Fprintln(c.cmd.OutOrStdout(), v.Secret)
		c.say("token %d is good until %s; use it as TWINNING_TOKEN, it can't be shown again", v.Id, day(v.Expires))
		return nil
	})
	make.Flags().Int("days", 90, "how long it is good, at most 366")
	make.Flags().String("for", "command line", "what it is for")
	list := running("list NAME", "The tokens of a user, without their secrets", exact("NAME"), func(c *client, args []string) error {
		var v apiclient.TokenList
		res, err := c.ListTokens(c.ctx, args[0])
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, t := range v.Items {
			rows = append(rows, []string{fmt.Sprint(t.Id), t.Name, day(t.Created), day(t.Expires)})
		}
		return c.show(v, []string{"token>", "for", "made", "good until"}, rows)
	})
	remove := running("remove NAME TOKEN", "Revoke a token at once", exact("NAME", "TOKEN"), func(c *client, args []string) error {
		id, err := strconv.ParseInt(args[1], 10, 64)
		if err != nil {
			return misuse("TOKEN %q: expected the number that `twinning user token list %s` shows", args[1], args[0])
		}
		res, err := c.RemoveToken(c.ctx, args[0], id)
		if err := ask(nil, res, err); err != nil {
			return err
		}
		c.say("token %d of %s is revoked", id, args[0])
		return nil
	})
	return group("token", "Bearer tokens of a user", list, make, remove)
}

func day(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func dayOf(t *time.Time) string {
	if t == nil {
		return ""
	}
	return day(*t)
}

func newFreeze() *cobra.Command {
	cmd := running("freeze", "Freeze all writing everywhere, or show whether it is", exact(), func(c *client, _ []string) error {
		var v apiclient.Freeze
		if c.on("on") || c.on("off") {
			res, err := c.SetFreeze(c.ctx, apiclient.FreezeInput{On: c.on("on"), Reason: c.given("reason")})
			if err := ask(&v, res, err); err != nil {
				return err
			}
		} else {
			res, err := c.GetFreeze(c.ctx)
			if err := ask(&v, res, err); err != nil {
				return err
			}
		}
		word := "not frozen"
		if v.On {
			word = fmt.Sprintf("frozen since %s by %s: %s", dayOf(v.At), value(v.By), value(v.Reason))
		}
		return c.show(v, []string{"writing"}, [][]string{{word}})
	})
	cmd.Flags().Bool("on", false, "freeze")
	cmd.Flags().Bool("off", false, "thaw; needs the right overrule")
	cmd.Flags().String("reason", "", "why")
	cmd.MarkFlagsMutuallyExclusive("on", "off")
	return cmd
}

func newAudit() *cobra.Command {
	list := pageFlags(running("list", "Who did what, newest first", exact(), func(c *client, _ []string) error {
		v, err := gather[apiclient.AuditEntry](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListAudit(c.ctx, &apiclient.ListAuditParams{Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, e := range v.Items {
			detail := ""
			for _, k := range sortedKeys(e.Detail) {
				if e.Detail[k] != "" {
					detail += k + "=" + e.Detail[k] + " "
				}
			}
			rows = append(rows, []string{fmt.Sprint(e.Seq), day(e.At), e.By, e.Action, e.Subject, strings.TrimSpace(detail)})
		}
		return showList(c, v, []string{"seq>", "at", "by", "action", "subject", "detail"}, rows)
	}))
	head := running("head", "Print the end of the trail: keep it where nobody who can write the database reaches it", exact(), func(c *client, _ []string) error {
		var v apiclient.AuditHead
		res, err := c.GetAuditHead(c.ctx)
		if err := ask(&v, res, err); err != nil {
			return err
		}
		fmt.Fprintln(c.cmd.OutOrStdout(), v.Head)
		return nil
	})
	check := running("check", "Check that the audit chain is unbroken, and holds a head that was kept", exact(), func(c *client, _ []string) error {
		var v apiclient.AuditCheck
		res, err := c.CheckAudit(c.ctx, &apiclient.CheckAuditParams{Head: c.given("head")})
		if err := ask(&v, res, err); err != nil {
			return err
		}
		switch {
		case v.BrokenAt != nil:
			return &exit{Failed, fmt.Sprintf("the chain is broken at entry %d: it, or what came before it, was altered or removed; entries before it are as they were written", *v.BrokenAt)}
		case !v.Intact:
			return &exit{Failed, fmt.Sprintf("the chain fits, but the head that was kept is not in it: the trail was cut or written anew since; it has %d entries", v.Entries)}
		}
		return c.show(v, []string{"entries>", "chain", "head"}, [][]string{{fmt.Sprint(v.Entries), "unbroken", v.Head}})
	})
	check.Flags().String("head", "", "what `twinning audit head` printed earlier")
	return group("audit", "The trail of who did what", list, head, check)
}

// pace is how many records a second a task gets through, or got.
func pace(t apiclient.Task) string {
	if t.Started == nil || t.Done == 0 {
		return ""
	}
	until := time.Now()
	if t.Ended != nil {
		until = *t.Ended
	}
	return thousands(int(float64(t.Done) / max(until.Sub(*t.Started).Seconds(), 0.001)))
}

func newTask() *cobra.Command {
	list := pageFlags(running("list", "Background work, newest first", exact(), func(c *client, _ []string) error {
		v, err := gather[apiclient.Task](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListTasks(c.ctx, &apiclient.ListTasksParams{Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, t := range v.Items {
			rows = append(rows, []string{fmt.Sprint(t.Id), t.Name, string(t.State), dayOf(t.Started), dayOf(t.Ended), thousands(t.Good), thousands(t.Bad), pace(t), value(t.Message)})
		}
		return showList(c, v, []string{"task>", "name", "state", "began", "ended", "good>", "bad>", "a second>", "message"}, rows)
	}))
	log := pageFlags(running("log TASK", "What a task said, record by record", exact("TASK"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		v, err := gather[apiclient.LogLine](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.GetTaskLog(c.ctx, id, &apiclient.GetTaskLogParams{Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, l := range v.Items {
			rows = append(rows, []string{day(l.At), string(l.Level), l.Subject, l.Message})
		}
		return showList(c, v, []string{"at", "level", "subject", "message"}, rows)
	}))
	halt := running("halt TASK", "Ask a task to stop; a reading that is halted leaves nothing behind", exact("TASK"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		var t apiclient.Task
		res, err := c.HaltTask(c.ctx, id)
		if err := ask(&t, res, err); err != nil {
			return err
		}
		c.say("task %d is asked to halt", t.Id)
		return nil
	})
	return group("task", "Background work", list, log, halt)
}
