package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/pairing"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
)

// Rulings without a service: they stand in the folder of --memory, and a
// reconciliation on files goes by them.

// ruleBySheet keeps the rulings of a sheet; all that is wrong is told at once, and then
// none is kept.
func ruleBySheet(m *reconcile.Memory, path string, talk io.Writer) error {
	list, err := rulingsOf(path, "")
	if err != nil {
		return err
	}
	var wrong []error
	for _, r := range list {
		r.At = time.Now().UTC()
		if err := m.Rule(r); err != nil {
			wrong = append(wrong, err)
		}
	}
	if len(wrong) > 0 {
		return fmt.Errorf("file %q, nothing is ruled:\n%w", path, errors.Join(wrong...))
	}
	fmt.Fprintf(talk, "rulings: %s from %s\n", thousands(len(list)), path)
	return nil
}

// withMemory changes what a folder remembers.
func withMemory(dir string, change func(*reconcile.Memory) error) error {
	m, err := loadMemory(dir)
	if err != nil {
		return err
	}
	if err := change(&m); err != nil {
		return err
	}
	return saveMemory(dir, m)
}

// memoryFlag lets a command work on a folder instead of a lane of the service.
func memoryFlag(cmd *cobra.Command, dir *string) {
	cmd.Flags().StringVar(dir, "memory", "", "folder of a reconciliation on files, instead of a lane of the service")
}

// questions are where a sitting gets its pairs from, and where its answers go.
type questions interface {
	face(q apiclient.Question) (apiclient.FaceToFace, error)
	rule(in apiclient.RulingInput) (apiclient.Ruling, error)
	clear(r apiclient.Ruling) error
	next() string // what to do when the sitting is over
}

// offlineDesk has the pairs of a reconciliation on files.
type offlineDesk struct {
	*result
	dir   string
	given int64
}

func (d *offlineDesk) open() (list []apiclient.Question) {
	for _, p := range d.Pairing.Proposals {
		pair := pairing.Pair{Person: d.People.ID(p.Person), Account: d.Accounts.ID(p.Account)}
		settled := func(o pairing.Pair) bool { return o.Person == pair.Person || o.Account == pair.Account }
		if slices.ContainsFunc(d.Input.Memory.Same, settled) || slices.Contains(d.Input.Memory.Different, pair) {
			continue
		}
		q := apiclient.Question{Code: p.Code, Person: pair.Person, Account: pair.Account, Reason: p.Reason, Brief: given(p.Brief),
			PersonLabel: record.Label(d.People, p.Person), AccountLabel: record.Label(d.Accounts, p.Account), Probability: &p.Probability}
		if c, ok := d.Pairing.Candidate(p.Person, p.Account); ok {
			q.Bits = &c.Bits
			for _, s := range d.Pairing.Weights.Say(&c.Pattern) {
				q.Said = append(q.Said, apiclient.Said{Comparator: s.Comparator, Level: s.Level, Bits: float32(s.Bits)})
			}
		}
		list = append(list, q)
	}
	return list
}

func (d *offlineDesk) face(q apiclient.Question) (v apiclient.FaceToFace, err error) {
	p, _ := d.People.Find(q.Person)
	a, _ := d.Accounts.Find(q.Account)
	for _, c := range reconcile.SideBySide(d.People, d.Accounts, p, a) {
		v.Attributes = append(v.Attributes, apiclient.Comparison{Attribute: c.Attribute, Person: c.Person, Account: c.Account, Equal: c.Equal, Said: &c.Said})
	}
	return v, nil
}

func (d *offlineDesk) rule(in apiclient.RulingInput) (apiclient.Ruling, error) {
	r := reconcile.Ruling{Kind: string(in.Kind), Person: value(in.Person), Account: value(in.Account), Reason: in.Reason, At: time.Now().UTC()}
	if err := withMemory(d.dir, func(m *reconcile.Memory) error { return m.Rule(r) }); err != nil {
		return apiclient.Ruling{}, err
	}
	d.given++
	return apiclient.Ruling{Id: d.given, Kind: r.Kind, Person: in.Person, Account: in.Account, Reason: r.Reason}, nil
}

func (d *offlineDesk) clear(r apiclient.Ruling) error {
	return withMemory(d.dir, func(m *reconcile.Memory) error {
		if !m.Unrule(value(r.Person), value(r.Account)) {
			return errors.New("it is not kept any more")
		}
		return nil
	})
}

func (d *offlineDesk) next() string { return "the reconciliation with --memory " + d.dir }

// reviewOffline goes through what a reconciliation on files asks about.
func (o *offline) reviewOffline(c *client) error {
	o.whole = true
	r, err := o.run(c.cmd.ErrOrStderr())
	if err != nil {
		return err
	}
	d := &offlineDesk{result: r, dir: o.memory}
	return (&desk{c: c, source: d, in: bufio.NewReader(c.cmd.InOrStdin()), out: c.cmd.OutOrStdout()}).work(d.open())
}

// ruleOffline keeps one ruling in a folder.
func ruleOffline(c *client, dir, kind string) error {
	r := reconcile.Ruling{Kind: kind, Person: c.flag("person"), Account: c.flag("account"), Reason: c.flag("reason"), Until: c.flag("until"), At: time.Now().UTC()}
	if _, err := c.until(); err != nil {
		return err
	}
	if r.Reason == "" {
		return misuse("--reason is needed: somebody will ask in a year")
	}
	if err := withMemory(dir, func(m *reconcile.Memory) error { return m.Rule(r) }); err != nil {
		return err
	}
	c.say("the ruling is kept in %s: the next reconciliation with that --memory goes by it", dir)
	return nil
}

// rulings are those of a lane, or those that a folder keeps.
func rulings(c *client, dir string, args []string) (v apiclient.RulingList, err error) {
	if dir == "" {
		res, err := c.ListRulings(c.ctx, args[0])
		err = ask(&v, res, err)
		return v, err
	}
	m, err := loadMemory(dir)
	if err != nil {
		return v, err
	}
	v.Items = []apiclient.Ruling{}
	for i, r := range m.Rulings() {
		v.Items = append(v.Items, apiclient.Ruling{Id: int64(i + 1), Kind: r.Kind, Person: given(r.Person), Account: given(r.Account), Reason: r.Reason, Until: given(r.Until), At: r.At})
	}
	return v, nil
}

// clearOffline takes a ruling of a folder back, by its number in the list.
func clearOffline(dir string, number int64) error {
	return withMemory(dir, func(m *reconcile.Memory) error {
		list := m.Rulings()
		if number < 1 || int(number) > len(list) {
			return fmt.Errorf("there is no ruling %d in %s; twinning twin rulings --memory %s lists them", number, dir, dir)
		}
		m.Clear(list[number-1])
		return nil
	})
}

// acceptOffline accepts a finding of a reconciliation on files, or takes that back.
func acceptOffline(c *client, dir, id string) error {
	if _, err := c.until(); err != nil {
		return err
	}
	err := withMemory(dir, func(m *reconcile.Memory) error {
		if c.on("undo") {
			if _, there := m.Accepted[id]; !there {
				return fmt.Errorf("finding %q is not accepted in %s", id, dir)
			}
			delete(m.Accepted, id)
			return nil
		}
		if m.Accepted == nil {
			m.Accepted = map[string]string{}
		}
		m.Accepted[id] = c.flag("until")
		return nil
	})
	if err == nil {
		c.say("kept in %s: the next reconciliation with that --memory goes by it", dir)
	}
	return err
}
