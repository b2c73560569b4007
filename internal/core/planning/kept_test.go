package planning_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/planning"
)

// What is kept of a list is kept value by value: what a later change keeps of it takes nothing
// from that, and the way back of a change lets go what it has kept, and nothing else.
func TestKeptByValues(t *testing.T) {
	change := func(attribute, old, now, until string) *planning.Change {
		return &planning.Change{Verb: planning.Enrol, Kept: &planning.Kept{Until: until}, Edits: []planning.Edit{{Attribute: attribute, Old: old, New: now}}}
	}
	crew := change("groups", "crew\x1fnews", "news", "2026-12-25").KeptBy("u1", "run 1")
	news := change("groups", "news", "", "2026-12-26").KeptBy("u1", "run 2")
	require.Equal(t, []string{"crew"}, crew[0].Values)
	require.Equal(t, []string{"news"}, news[0].Values)
	require.NotEqual(t, crew[0].ID, news[0].ID, "the second does not take the place of the first")
	require.Equal(t, []string{crew[0].ID}, change("groups", "news", "crew\x1fnews", "").Frees("u1"))
	title := change("title", "Cook", "Chef", "2026-12-25")
	require.Equal(t, title.KeptBy("u1", "run 1")[0].ID, title.KeptBy("u1", "run 2")[0].ID, "a title is kept once")
	require.Equal(t, []string{title.KeptBy("u1", "run 1")[0].ID}, change("title", "Chef", "Cook", "").Frees("u1"))
	require.Empty(t, title.Frees("u1"))
	require.Empty(t, (&planning.Change{}).KeptBy("u1", "run 1"))
}
