package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"twinning/internal/apiclient"
	"twinning/internal/core/document"
)

// credentials is what sign-in leaves behind for later commands.
type credentials struct {
	Address string `json:"address"`
	Session string `json:"session,omitempty"`
}

func credentialsFile() (string, error) {
	if f := os.Getenv("TWINNING_CREDENTIALS"); f != "" {
		return f, nil
	}
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "twinning", "credentials.json"), err
}

func loadCredentials() (c credentials, err error) {
	path, err := credentialsFile()
	if err != nil {
		return c, err
	}
	src, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err != nil {
		return c, err
	}
	return c, json.Unmarshal(src, &c)
}

func (c credentials) save() error {
	path, err := credentialsFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	src, err := json.Marshal(c)
	if err != nil {
		return err
	}
	return os.WriteFile(path, src, 0o600)
}

// sessionCookie is the cookie of a session; behind TLS, __Host- stands before it.
const sessionCookie = "twinning_session"

const defaultAddress = "http://127.0.0.1:7413"

// client talks to a service for one command.
type client struct {
	*apiclient.Client
	ctx    context.Context
	cmd    *cobra.Command
	format string
	in     *bufio.Reader // standard input, line by line, once it was read
}

// connectFlags are the flags of every command that talks to a service.
func connectFlags(root *cobra.Command) {
	f := root.PersistentFlags()
	f.String("address", "", "the service (default: where you signed in, else "+defaultAddress+"; env TWINNING_ADDRESS)")
	f.StringP("output", "o", "table", "table, json, csv or yaml")
}

// connect prepares a client from flags, environment and what sign-in left.
func connect(cmd *cobra.Command) (*client, error) {
	kept, err := loadCredentials()
	if err != nil {
		return nil, fmt.Errorf("the kept sign-in can't be read: %w; sign in again", err)
	}
	address, _ := cmd.Flags().GetString("address")
	for _, a := range []string{os.Getenv("TWINNING_ADDRESS"), kept.Address, defaultAddress} {
		if address == "" {
			address = a
		}
	}
	address = strings.TrimRight(address, "/")
	if u, err := url.Parse(address); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, misuse("--address %q: expected an address such as %s", address, defaultAddress)
	}
	l, err := local(cmd)
	if err != nil {
		return nil, err
	}
	token := os.Getenv("TWINNING_TOKEN")
	sign := func(_ context.Context, r *http.Request) error {
		switch {
		case token != "":
			r.Header.Set("Authorization", "Bearer "+token)
		case kept.Session != "" && kept.Address == address:
			name := sessionCookie
			if strings.HasPrefix(address, "https:") {
				name = "__Host-" + name
			}
			r.AddCookie(&http.Cookie{Name: name, Value: kept.Session})
		}
		return nil
	}
	api, err := apiclient.NewClient(address+"/v1", apiclient.WithRequestEditorFn(sign), apiclient.WithHTTPClient(&http.Client{}))
	l.Client = api
	return l, err
}

// local is a client that needs no service: for what is done on files.
func local(cmd *cobra.Command) (*client, error) {
	format, _ := cmd.Flags().GetString("output")
	switch format {
	case "table", "json", "csv", "yaml":
		return &client{ctx: cmd.Context(), cmd: cmd, format: format}, nil
	}
	return nil, misuse("--output %q%s: expected table, json, csv or yaml", format, document.Suggest(format, filterWords["output"]))
}

// ask reads an answer into out, or turns a problem into an error.
func ask(out any, res *http.Response, err error) error {
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			return fmt.Errorf("no service answers at %s: %w; is `twinning serve` running there?", u.URL[:strings.Index(u.URL+"/v1", "/v1")], u.Err)
		}
		return err
	}
	defer res.Body.Close() // read to its end
	body, err := io.ReadAll(res.Body)
	if err != nil {
		return err
	}
	if res.StatusCode < 300 {
		if out == nil || len(body) == 0 {
			return nil
		}
		return json.Unmarshal(body, out)
	}
	return refusal(res.StatusCode, body)
}

// given is a text as an optional member has it.
func given(text string) *string {
	if text == "" {
		return nil
	}
	return &text
}

// validator is the ETag of what an answer shows, for a change that is made from it;
// nil where there is nothing yet.
func validator(res *http.Response, err error) (*string, error) {
	if err == nil && res.StatusCode == http.StatusNotFound {
		return nil, res.Body.Close()
	}
	if err := ask(nil, res, err); err != nil {
		return nil, err
	}
	tag := res.Header.Get("ETag")
	return &tag, nil
}

func refusal(status int, body []byte) error {
	var p apiclient.Problem
	if json.Unmarshal(body, &p) != nil || p.Title == "" {
		return fmt.Errorf("the service answered %d", status)
	}
	text := p.Title
	if p.Detail != nil {
		sep := ": "
		if strings.Contains(*p.Detail, "\n") {
			sep = ":\n"
		}
		text += sep + *p.Detail
	}
	if p.Next != nil {
		text += "\n  " + *p.Next
	}
	code := Failed
	switch status {
	case http.StatusLocked:
		code = Guarded
	case http.StatusUnauthorized:
		text += "\n  twinning sign-in --address … --name …"
	}
	return &exit{code, text}
}

// follow waits for a task to end, telling its progress on a terminal. The last
// state is returned; a failed task is an error.
func (c *client) follow(id int64) (t apiclient.Task, err error) {
	talk := c.cmd.ErrOrStderr()
	bar := isTerminal(talk)
	told := ""
	for {
		res, err := c.GetTask(c.ctx, id)
		if c.ctx.Err() != nil {
			return t, goesOn(id)
		}
		if err := ask(&t, res, err); err != nil {
			return t, err
		}
		if now := value(t.Message); now != told && t.Ended == nil {
			if told = now; told != "" {
				c.say("%s %s; it goes on whether you wait or not", t.Name, now)
			}
		}
		if bar && t.Done > 0 && t.Total == 0 {
			fmt.Fprintf(raw(talk), "\r%s %s so far, %s a second\x1b[K", plainText(t.Name), thousands(t.Done), pace(t))
		}
		if bar && t.Total > 0 {
			fmt.Fprintf(raw(talk), "\r%s %s of %s, %s a second\x1b[K", plainText(t.Name), thousands(t.Done), thousands(t.Total), pace(t))
		}
		if t.Ended != nil {
			break
		}
		select {
		case <-c.ctx.Done():
			return t, goesOn(id)
		case <-time.After(150 * time.Millisecond):
		}
	}
	if bar {
		fmt.Fprint(raw(talk), "\r\x1b[K")
	}
	if t.State == apiclient.TaskStateFailed {
		return t, fmt.Errorf("%s failed: %s", t.Name, value(t.Message))
	}
	return t, nil
}

// goesOn is told to whoever no longer waits.
func goesOn(task int64) error {
	return fmt.Errorf("not waited for any longer: task %d goes on in the service; look at it: twinning task list; stop it: twinning task halt %d", task, task)
}

// isTerminal reports whether a human is at the other end of a stream.
func isTerminal(stream any) bool {
	if w, ok := stream.(io.Writer); ok {
		stream = raw(w)
	}
	f, ok := stream.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}
