package connectortest_test

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"sync"
	"testing"

	"twinning/internal/connector"
	"twinning/internal/connector/connectortest"
	"twinning/internal/core/record"
)

// board is the smallest system there is: notices in memory, each with a version
// that grows with every change. It shows what a connector must think of.
type board struct {
	mu      sync.Mutex
	notices map[string]connector.Record
	made    int
	torn    bool
}

func newBoard() *board {
	b := &board{notices: map[string]connector.Record{}}
	for _, name := range []string{"ana", "bo"} {
		_, _ = b.Write(context.Background(), connector.Write{Edits: []connector.Edit{{Native: "name", New: []string{name}}}}) // memory does not fail
	}
	return b
}

func (b *board) Declare() connector.Declaration {
	shape, _ := record.ParseShape([]byte("shape: {id: id, displayName: name, title: title}\n")) // our own text
	return connector.Declaration{
		Kind: "board", Shape: shape, Extents: []string{connector.Whole, connector.Sample}, Writes: true, ReadsOne: true,
		Verbs: []string{"create", "set", "delete"}, Finds: "name", Scope: "the whole board",
	}
}

func (b *board) fault(kind connector.Kind, doing, reason string) error {
	return &connector.Error{Kind: kind, Doing: doing, Target: "the board", Reason: reason, Next: "look at the board"}
}

func (b *board) Read(ctx context.Context, what connector.Reading, sink connector.Sink) (string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if what.Extent == connector.Changes {
		return "", b.fault(connector.Unsupported, "read what changed", "a board does not say")
	}
	sink.Expect(len(b.notices))
	for i, id := range slices.Sorted(maps.Keys(b.notices)) {
		switch {
		case ctx.Err() != nil:
			return "", ctx.Err()
		case b.torn && i > 0:
			return "", b.fault(connector.Broken, "read the board", "a part of it is torn off; a partial list is never used")
		case what.Extent == connector.Sample && (i < what.Skip || i >= what.Skip+what.Limit):
			continue
		}
		if err := sink.Record(b.copy(id)); err != nil {
			return "", err
		}
	}
	return "", nil
}

// copy is what others may keep; nothing of it is ours any more.
func (b *board) copy(id string) connector.Record {
	r := b.notices[id]
	r.Values = maps.Clone(r.Values)
	return r
}

func (b *board) One(_ context.Context, id string) (connector.Record, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if _, ok := b.notices[id]; !ok {
		return connector.Record{}, b.fault(connector.NotFound, "read "+id, "it is not there")
	}
	return b.copy(id), nil
}

func (b *board) Find(_ context.Context, native, value string) (list []connector.Record, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, id := range slices.Sorted(maps.Keys(b.notices)) {
		if slices.Contains(b.notices[id].Values[native], value) {
			list = append(list, b.copy(id))
		}
	}
	return list, nil
}

func (b *board) Write(_ context.Context, w connector.Write) (connector.Record, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	r := connector.Record{Values: map[string][]string{}}
	if w.Record != nil {
		now, ok := b.notices[w.Record.ID]
		switch {
		case !ok:
			return r, b.fault(connector.NotFound, "change "+w.Record.ID, "it is not there any more")
		case now.Version != w.Record.Version:
			return r, b.fault(connector.Stale, "change "+w.Record.ID, "it changed since it was read")
		}
		r = b.copy(now.ID)
	} else {
		b.made++
		r.ID = strconv.Itoa(b.made)
		r.Values["id"] = []string{r.ID}
	}
	for _, e := range w.Edits {
		if len(e.New) == 0 {
			delete(r.Values, e.Native)
			continue
		}
		r.Values[e.Native] = slices.Clone(e.New)
	}
	for id, other := range b.notices {
		if id != r.ID && slices.Equal(other.Values["name"], r.Values["name"]) {
			return connector.Record{}, b.fault(connector.Conflict, "write the notice", fmt.Sprintf("the name %q is taken", r.Values["name"]))
		}
	}
	b.made++
	r.Version = strconv.Itoa(b.made)
	b.notices[r.ID] = r
	return b.copy(r.ID), nil
}

func (b *board) Delete(_ context.Context, r connector.Record) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.notices, r.ID)
	return nil
}

func (b *board) Probe(_ context.Context, tell func(connector.Step)) {
	tell(connector.Step{Name: "look", State: connector.StepOK, Said: "the board hangs there"})
}

func TestExample(t *testing.T) {
	b := newBoard()
	connectortest.Run(t, connectortest.Subject{
		New:    func(*testing.T) connector.Connector { return b },
		Count:  2,
		Spoil:  map[string]func(*testing.T){"a part is torn off": func(t *testing.T) { b.torn = true; t.Cleanup(func() { b.torn = false }) }},
		Create: []connector.Edit{{Native: "name", New: []string{"Nova"}}, {Native: "title", New: []string{"Cook"}}},
		Change: connector.Edit{Native: "title", New: []string{"Head cook"}},
	})
}
