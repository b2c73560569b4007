// Package connectortest is the behaviour that every connector must show. A
// connector's test gives a Subject and calls Run; each case names the promise
// that it holds the connector to. A promise about something the connector does
// not declare is not asked of it.
package connectortest

import (
	"context"
	"errors"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/core/record"
)

// Subject is a connector with the system behind it.
type Subject struct {
	New func(t *testing.T) connector.Connector
	// IDs that a whole reading finds, sorted; nil where the system makes its
	// own, and Count says how many.
	IDs   []string
	Count int
	// Spoil makes the next reading end before its end, or fail, by name.
	Spoil map[string]func(t *testing.T)
	// Create has what a new record needs; nil for systems that are not written.
	Create []connector.Edit
	// Change changes a record that Create made; Odd sets the same attribute to
	// values that are hard to carry.
	Change connector.Edit
	// Rename and Place, where such verbs are declared, are edits of names.
	Rename, Place connector.Edit
	// Group is one that is empty but for what must be in it.
	Group string
	// Unguarded systems write whatever was changed since it was read: they know no versions.
	Unguarded bool
}

// odd values must come back as they went.
var odd = []string{`Q. "Q" O'Hara \ , + ; <x> = #1 (*)`, "Ægir Þór Надежда 陳美玲", "ends with a backslash \\", "*", "(&(a=b))", "e\u0301 combining", "\u00a0non-breaking\u00a0"}

// Kept collects a reading.
type Kept struct {
	Records  []connector.Record
	Rejected []record.Rejection
	Deleted  []string
	Left     []connector.Left
	Fail     error
	After    int // records before Fail is returned
}

func (s *Kept) Expect(int) {}
func (s *Kept) Record(r connector.Record) error {
	s.Records = append(s.Records, r)
	if len(s.Records) <= s.After {
		return nil
	}
	return s.Fail
}
func (s *Kept) Reject(r record.Rejection) error {
	s.Rejected = append(s.Rejected, r)
	return s.Fail
}
func (s *Kept) Gone(id string) error {
	s.Deleted = append(s.Deleted, id)
	return nil
}
func (s *Kept) Restart() error {
	*s = Kept{Fail: s.Fail, After: s.After}
	return nil
}
func (s *Kept) LeftOut(l connector.Left) error {
	s.Left = append(s.Left, l)
	return nil
}

// IDs of the records, sorted.
func (s *Kept) IDs() []string {
	var ids []string
	for _, r := range s.Records {
		ids = append(ids, r.ID)
	}
	slices.Sort(ids)
	return ids
}

// Read takes a whole reading that must succeed.
func Read(t *testing.T, c connector.Connector) *Kept {
	t.Helper()
	var s Kept
	_, err := c.Read(context.Background(), connector.Reading{}, &s)
	require.NoError(t, err)
	return &s
}

// Run holds a connector to the promises.
func Run(t *testing.T, x Subject) {
	ctx := context.Background()
	fresh := func(t *testing.T) connector.Connector {
		c := x.New(t)
		if closer, ok := c.(connector.Closer); ok {
			t.Cleanup(func() { require.NoError(t, closer.Close()) })
		}
		return c
	}
	t.Run("a reading gives every record once, without secrets", func(t *testing.T) {
		s := Read(t, fresh(t))
		if x.IDs != nil {
			require.Equal(t, x.IDs, s.IDs())
			x.Count = len(x.IDs)
		}
		require.Len(t, s.Records, x.Count)
		require.Len(t, slices.Compact(s.IDs()), x.Count)
		for _, r := range s.Records {
			for native := range r.Values {
				require.False(t, record.IsSecret(native), "%s of %s", native, r.ID)
			}
		}
	})
	t.Run("an error of the sink ends the reading and stays what it is", func(t *testing.T) {
		stop := errors.New("enough")
		_, err := fresh(t).Read(ctx, connector.Reading{}, &Kept{Fail: stop})
		require.ErrorIs(t, err, stop)
	})
	t.Run("a reading that is stopped ends", func(t *testing.T) {
		stopped, cancel := context.WithCancel(ctx)
		cancel()
		_, err := fresh(t).Read(stopped, connector.Reading{}, &Kept{})
		require.Error(t, err)
	})
	for name, spoil := range x.Spoil {
		t.Run("a partial reading never looks whole: "+name, func(t *testing.T) {
			spoil(t)
			_, err := fresh(t).Read(ctx, connector.Reading{}, &Kept{})
			require.Error(t, err)
			var told *connector.Error
			require.ErrorAs(t, err, &told, "errors say what was attempted, on what and why")
			require.NotEmpty(t, told.Doing)
			require.NotEmpty(t, told.Reason)
			require.NotEmpty(t, told.Next, "and what to do: %v", err)
		})
	}
	d := fresh(t).Declare()
	t.Run("it declares its kind, that it can be read as a whole, and only what it can do", func(t *testing.T) {
		require.NotEmpty(t, d.Kind)
		require.Contains(t, d.Extents, connector.Whole)
		require.Equal(t, d.Writes, len(d.Verbs) > 0)
		c := fresh(t)
		for verb, has := range map[string]func() bool{
			"delete":   func() bool { _, ok := c.(connector.Deleter); return ok },
			"reissue":  func() bool { _, ok := c.(connector.Reissuer); return ok },
			"enrol":    func() bool { _, ok := c.(connector.Grouper); return ok },
			"withdraw": func() bool { _, ok := c.(connector.Grouper); return ok },
		} {
			require.True(t, !slices.Contains(d.Verbs, verb) || has(), "%s is declared and not there", verb)
		}
	})
	t.Run("a probe tells its steps, and no secret", func(t *testing.T) {
		steps := connector.Probe(ctx, fresh(t))
		require.NotEmpty(t, steps)
		for _, s := range steps {
			require.NotEqual(t, connector.StepFailed, s.State, "%+v", s)
			require.NotEmpty(t, s.Said, s.Name)
		}
	})
	if slices.Contains(d.Extents, connector.Sample) {
		t.Run("a sample passes over as many and gives as many as asked", func(t *testing.T) {
			var s Kept
			_, err := fresh(t).Read(ctx, connector.Reading{Extent: connector.Sample, Skip: 1, Limit: 1}, &s)
			require.NoError(t, err)
			require.Len(t, s.Records, 1)
			require.NotEqual(t, Read(t, fresh(t)).Records[0].ID, s.Records[0].ID)
		})
	}
	t.Run("a read-only system can't be written by any path", func(t *testing.T) {
		before := Read(t, fresh(t))
		c := connector.ReadOnly(fresh(t))
		for name, w := range map[string]connector.Write{"create": {Edits: x.Create}, "change": {Record: &before.Records[0], Edits: []connector.Edit{x.Change}}} {
			_, err := c.Write(ctx, w)
			require.Equal(t, connector.Unsupported, connector.KindOf(err), name)
		}
		_, deletes := c.(connector.Deleter)
		_, groups := c.(connector.Grouper)
		_, reissues := c.(connector.Reissuer)
		require.False(t, deletes || groups || reissues, "there is no way around it")
		require.NotEmpty(t, connector.Probe(ctx, c))
		require.Equal(t, before.Records, Read(t, fresh(t)).Records, "nothing changed, by the probe either")
	})
	if !d.Writes {
		t.Run("a system that is not written says so", func(t *testing.T) {
			_, err := fresh(t).Write(ctx, connector.Write{})
			require.Equal(t, connector.Unsupported, connector.KindOf(err))
		})
		return
	}
	if d.Deferred {
		return // what it writes shows in a later roster only; its own test has the file
	}
	t.Run("a record that is gone is not found", func(t *testing.T) {
		_, err := fresh(t).One(ctx, "00000000-0000-0000-0000-000000000000")
		require.Equal(t, connector.NotFound, connector.KindOf(err), "%v", err)
	})
	writes(t, x, d, fresh)
}

// writes are the promises of a system that is written. They follow one record
// from its making to its end.
func writes(t *testing.T, x Subject, d connector.Declaration, fresh func(t *testing.T) connector.Connector) {
	ctx := context.Background()
	c := fresh(t)
	var made connector.Record
	cursor := ""
	t.Run("a record can be made, read, found again and not made twice", func(t *testing.T) {
		var err error
		cursor, err = c.Read(ctx, connector.Reading{}, &Kept{})
		require.NoError(t, err)
		made, err = c.Write(ctx, connector.Write{Edits: x.Create})
		require.NoError(t, err)
		require.NotEmpty(t, made.ID)
		one, err := c.One(ctx, made.ID)
		require.NoError(t, err)
		for _, e := range x.Create {
			require.Equal(t, e.New, one.Values[e.Native], e.Native)
		}
		i := slices.IndexFunc(x.Create, func(e connector.Edit) bool { return e.Native == d.Finds })
		require.GreaterOrEqual(t, i, 0, "the declaration names an attribute by which a lost create is found")
		found, err := c.Find(ctx, d.Finds, x.Create[i].New[0])
		require.NoError(t, err)
		require.Len(t, found, 1)
		require.Equal(t, made.ID, found[0].ID)
		for _, value := range append([]string{`no "such" value`}, odd...) {
			none, err := c.Find(ctx, d.Finds, value)
			if connector.KindOf(err) != connector.Refused { // a server may not understand it, but never otherwise
				require.NoError(t, err, value)
			}
			require.Empty(t, none, value)
		}
		_, err = c.Write(ctx, connector.Write{Edits: x.Create})
		require.Equal(t, connector.Conflict, connector.KindOf(err), "%v", err)
	})
	t.Run("a change writes what it says and nothing else", func(t *testing.T) {
		one, err := c.One(ctx, made.ID)
		require.NoError(t, err)
		changed, err := c.Write(ctx, connector.Write{Record: &one, Edits: []connector.Edit{x.Change}})
		require.NoError(t, err)
		require.Equal(t, x.Change.New, changed.Values[x.Change.Native])
		for _, e := range x.Create {
			if e.Native != x.Change.Native {
				require.Equal(t, e.New, changed.Values[e.Native], "%s is lost by a change of %s", e.Native, x.Change.Native)
			}
		}
		if x.Unguarded {
			return
		}
		_, err = c.Write(ctx, connector.Write{Record: &one, Edits: []connector.Edit{{Native: x.Change.Native}}})
		require.Equal(t, connector.Stale, connector.KindOf(err), "a record that changed since it was read is not written: %v", err)
	})
	t.Run("values that are hard to carry come back as they went", func(t *testing.T) {
		for _, value := range odd {
			one, err := c.One(ctx, made.ID)
			require.NoError(t, err)
			after, err := c.Write(ctx, connector.Write{Record: &one, Edits: []connector.Edit{{Native: x.Change.Native, New: []string{value}}}})
			require.NoError(t, err, value)
			require.Equal(t, []string{value}, after.Values[x.Change.Native])
		}
	})
	t.Run("a value can be cleared, and set again", func(t *testing.T) {
		for _, e := range []connector.Edit{{Native: x.Change.Native}, x.Change} {
			one, err := c.One(ctx, made.ID)
			require.NoError(t, err)
			after, err := c.Write(ctx, connector.Write{Record: &one, Edits: []connector.Edit{e}})
			require.NoError(t, err)
			require.Equal(t, e.New, after.Values[e.Native])
		}
	})
	for name, e := range map[string]connector.Edit{"rename": x.Rename, "place": x.Place} {
		if e.Native == "" {
			continue
		}
		t.Run(name+" keeps the record's id", func(t *testing.T) {
			one, err := c.One(ctx, made.ID)
			require.NoError(t, err)
			after, err := c.Write(ctx, connector.Write{Record: &one, Edits: []connector.Edit{e}})
			require.NoError(t, err)
			require.Equal(t, made.ID, after.ID)
			require.Equal(t, e.New, after.Values[e.Native])
		})
	}
	if g, ok := c.(connector.Grouper); ok && x.Group != "" {
		t.Run("members come and go by delta, and nobody else does", func(t *testing.T) { groups(t, x, g, Read(t, c).IDs()) })
	}
	g, groups := c.(connector.Grouper)
	if m, ok := c.(connector.Mender); ok && groups && x.Group != "" && x.Rename.Native != "" {
		t.Run("what refers to a renamed record follows it, and mending again changes nothing", func(t *testing.T) {
			require.NotEmpty(t, d.Place, "the declaration names what others refer by")
			require.NoError(t, g.Enrol(ctx, x.Group, []string{made.ID}, nil))
			was, err := c.One(ctx, made.ID)
			require.NoError(t, err)
			now, err := c.Write(ctx, connector.Write{Record: &was, Edits: []connector.Edit{{Native: x.Rename.Native, New: []string{"moved.on"}}}})
			require.NoError(t, err)
			require.NotEqual(t, was.Values[d.Place], now.Values[d.Place])
			require.NoError(t, m.Mend(ctx, was, now))
			var members []string
			require.NoError(t, g.Members(ctx, x.Group, func(id string) error { members = append(members, id); return nil }, func(connector.Left) error { return nil }))
			require.Contains(t, members, made.ID)
			require.NoError(t, g.Enrol(ctx, x.Group, nil, []string{made.ID}))
		})
	}
	if r, ok := c.(connector.Reissuer); ok && slices.Contains(d.Verbs, "reissue") {
		t.Run("a secret can be set, and is never read", func(t *testing.T) {
			one, err := c.One(ctx, made.ID)
			require.NoError(t, err)
			require.NoError(t, r.Reissue(ctx, one, "Tr0ub4dor-and-more"))
			if p, can := c.(connector.Prover); can {
				for secret, has := range map[string]bool{"Tr0ub4dor-and-more": true, "another one": false} {
					proved, err := p.Proves(ctx, one, secret)
					require.NoError(t, err)
					require.Equal(t, has, proved)
				}
				_, err := p.Proves(ctx, one, "")
				require.Error(t, err, "signing in without a secret is signing in as nobody")
			}
			again, err := c.One(ctx, made.ID)
			require.NoError(t, err)
			for native, values := range again.Values {
				require.NotContains(t, values, "Tr0ub4dor-and-more", native)
			}
		})
	}
	deleter, deletes := c.(connector.Deleter)
	if deletes {
		t.Run("a record can be deleted, and that it is gone already is no error", func(t *testing.T) {
			one, err := c.One(ctx, made.ID)
			require.NoError(t, err)
			require.NoError(t, deleter.Delete(ctx, one))
			_, err = c.One(ctx, made.ID)
			require.Equal(t, connector.NotFound, connector.KindOf(err))
			require.NoError(t, deleter.Delete(ctx, one))
		})
	}
	if slices.Contains(d.Extents, connector.Changes) {
		t.Run("a reading of changes tells what changed, or that it can't", func(t *testing.T) {
			require.NotEmpty(t, cursor)
			before := Read(t, c).Records[0]
			_, err := c.Write(ctx, connector.Write{Record: &before, Edits: []connector.Edit{x.Change}})
			require.NoError(t, err)
			var s Kept
			next, err := c.Read(ctx, connector.Reading{Extent: connector.Changes, Cursor: cursor}, &s)
			require.NoError(t, err)
			require.NotEmpty(t, next)
			require.Contains(t, s.IDs(), before.ID)
			here := Read(t, c).IDs()
			for _, id := range s.Deleted {
				require.NotContains(t, here, id, "what is there is not told as deleted")
			}
			for _, bad := range []string{"", "nonsense", "sync:!"} {
				_, err = c.Read(ctx, connector.Reading{Extent: connector.Changes, Cursor: bad}, &Kept{})
				require.Equal(t, connector.Expired, connector.KindOf(err), "%q: %v", bad, err)
			}
		})
	}
}

func groups(t *testing.T, x Subject, g connector.Grouper, ids []string) {
	ctx := context.Background()
	var known []string
	require.NoError(t, g.Groups(ctx, func(g connector.Group) error {
		known = append(known, g.ID)
		return nil
	}))
	require.Contains(t, known, x.Group)
	members := func() (list []string) {
		require.NoError(t, g.Members(ctx, x.Group, func(id string) error {
			list = append(list, id)
			return nil
		}, func(connector.Left) error { return nil }))
		slices.Sort(list)
		return list
	}
	require.Empty(t, members())
	two := slices.Sorted(slices.Values(ids[:2]))
	require.NoError(t, g.Enrol(ctx, x.Group, two, nil))
	require.Equal(t, two, members())
	require.NoError(t, g.Enrol(ctx, x.Group, two[:1], nil), "who is in already is no error")
	require.NoError(t, g.Enrol(ctx, x.Group, ids[2:3], two[:1]))
	require.Equal(t, slices.Sorted(slices.Values([]string{two[1], ids[2]})), members(), "who is not named stays")
	require.NoError(t, g.Enrol(ctx, x.Group, nil, []string{two[0], two[1], ids[2]}), "who is out already is no error, and the group may be left empty")
	require.Empty(t, members())
	id, err := g.MakeGroup(ctx, "Stargazers, north + south", ids[0])
	require.NoError(t, err)
	x.Group = id
	require.Equal(t, ids[:1], members())
	var named []string
	require.NoError(t, g.Groups(ctx, func(g connector.Group) error {
		if g.ID == id {
			named = append(named, g.Name)
		}
		return nil
	}))
	require.Equal(t, []string{"Stargazers, north + south"}, named)
}
