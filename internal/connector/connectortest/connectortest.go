// Package connectortest is the behaviour that every connector must show. A
// connector's test gives a Subject and calls Run; each case names the promise
// that it holds the connector to.
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
	// IDs that a whole reading finds, sorted.
	IDs []string
	// Spoil makes the next reading end before its end, or fail.
	Spoil func(t *testing.T)
	// Create has what a new record needs; nil for systems that are not written.
	Create []connector.Edit
	// Change changes a record that Create made.
	Change connector.Edit
}

// sink collects a reading.
type sink struct {
	records  []connector.Record
	rejected []record.Rejection
	fail     error
}

func (s *sink) Expect(int) {}
func (s *sink) Record(r connector.Record) error {
	s.records = append(s.records, r)
	return s.fail
}
func (s *sink) Reject(r record.Rejection) error {
	s.rejected = append(s.rejected, r)
	return s.fail
}

func (s *sink) ids() []string {
	var ids []string
	for _, r := range s.records {
		ids = append(ids, r.ID)
	}
	slices.Sort(ids)
	return ids
}

// Run holds a connector to the promises.
func Run(t *testing.T, x Subject) {
	ctx := context.Background()
	t.Run("a reading gives every record once, without secrets", func(t *testing.T) {
		var s sink
		require.NoError(t, x.New(t).Read(ctx, &s))
		require.Equal(t, x.IDs, s.ids())
		for _, r := range s.records {
			for native := range r.Values {
				require.False(t, record.IsSecret(native), "%s of %s", native, r.ID)
			}
		}
	})
	t.Run("an error of the sink ends the reading", func(t *testing.T) {
		stop := errors.New("enough")
		require.ErrorIs(t, x.New(t).Read(ctx, &sink{fail: stop}), stop)
	})
	t.Run("a partial reading never looks whole", func(t *testing.T) {
		x.Spoil(t)
		var s sink
		err := x.New(t).Read(ctx, &s)
		require.Error(t, err)
		var told *connector.Error
		require.ErrorAs(t, err, &told, "errors say what was attempted, on what and why")
		require.NotEmpty(t, told.Doing)
		require.NotEmpty(t, told.Reason)
	})
	d := x.New(t).Declare()
	t.Run("it declares its kind and that it can be read as a whole", func(t *testing.T) {
		require.NotEmpty(t, d.Kind)
		require.Contains(t, d.Extents, "whole")
	})
	if !d.Writes {
		t.Run("a system that is not written says so", func(t *testing.T) {
			_, err := x.New(t).Write(ctx, connector.Write{})
			require.Equal(t, connector.Unsupported, connector.KindOf(err))
		})
		return
	}
	t.Run("a record can be made, read, found again, changed and not made twice", func(t *testing.T) {
		c := x.New(t)
		made, err := c.Write(ctx, connector.Write{Edits: x.Create})
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
		none, err := c.Find(ctx, d.Finds, `no "such" value`)
		require.NoError(t, err)
		require.Empty(t, none)
		changed, err := c.Write(ctx, connector.Write{Record: &one, Edits: []connector.Edit{x.Change}})
		require.NoError(t, err)
		require.Equal(t, x.Change.New, changed.Values[x.Change.Native])
		for _, e := range x.Create {
			if e.Native != x.Change.Native {
				require.Equal(t, e.New, changed.Values[e.Native], "%s is lost by a change of %s", e.Native, x.Change.Native)
			}
		}
		_, err = c.Write(ctx, connector.Write{Edits: x.Create})
		require.Equal(t, connector.Conflict, connector.KindOf(err), "%v", err)
		_, err = c.Write(ctx, connector.Write{Record: &one, Edits: []connector.Edit{{Native: x.Change.Native}}})
		require.Equal(t, connector.Stale, connector.KindOf(err), "a record that changed since it was read is not written: %v", err)
	})
	t.Run("a record that is gone is not found", func(t *testing.T) {
		_, err := x.New(t).One(ctx, "no-such-record")
		require.Equal(t, connector.NotFound, connector.KindOf(err))
	})
}
