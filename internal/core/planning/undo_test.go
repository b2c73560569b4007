package planning_test

import (
	"fmt"
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// holding is what accounts hold, by account and attribute.
type holding map[string]map[string]string

func (h holding) clone() holding {
	c := holding{}
	for id, cells := range h {
		c[id] = maps.Clone(cells)
	}
	return c
}

// moves takes values out of a list and puts others in, in the order of the alphabet.
func moves(cell string, adds, takes []string) string {
	list := slices.DeleteFunc(record.SplitList(cell), func(v string) bool { return slices.Contains(takes, v) || slices.Contains(adds, v) })
	list = append(list, adds...)
	slices.Sort(list)
	return record.JoinList(list)
}

// Whatever sequence of writes a run makes, the undo of it gives back the state before, value by
// value: also where a change of a list says what the list was before the run, and not what an
// earlier change of the run has left of it. What somebody else has written since is left as it is.
func TestUndoGivesBackEveryValue(t *testing.T) {
	letters := []string{"a", "b", "c", "d", "e"}
	rapid.Check(t, func(t *rapid.T) {
		state := holding{}
		for _, id := range []string{"u1", "u2"} {
			state[id] = map[string]string{"title": rapid.SampledFrom([]string{"", "Cook", "Chef"}).Draw(t, "title")}
			for _, attribute := range []string{"groups", "aliases"} {
				list := rapid.SliceOfNDistinct(rapid.SampledFrom(letters), 0, 4, rapid.ID).Draw(t, attribute)
				slices.Sort(list)
				state[id][attribute] = record.JoinList(list)
			}
		}
		before := state.clone()
		var done []planning.Done
		for n := range rapid.IntRange(1, 8).Draw(t, "changes") {
			id := rapid.SampledFrom([]string{"u1", "u2"}).Draw(t, "account")
			attribute := rapid.SampledFrom([]string{"title", "groups", "aliases"}).Draw(t, "attribute")
			e := planning.Edit{Attribute: attribute, Old: state[id][attribute]}
			if attribute == "title" {
				e.New = rapid.SampledFrom([]string{"", "Cook", "Chef", "Baker"}).Draw(t, "new")
				state[id][attribute] = e.New
			} else {
				if rapid.Bool().Draw(t, "drafted from the state before the run") {
					e.Old = before[id][attribute]
				}
				moved := rapid.SliceOfNDistinct(rapid.SampledFrom(letters), 1, 3, rapid.ID).Draw(t, "moved")
				var adds, takes []string
				for _, v := range moved {
					// the plan moves what is not as it is to be when its change is carried out
					there := slices.Contains(record.SplitList(state[id][attribute]), v)
					if said := slices.Contains(record.SplitList(e.Old), v); said != there {
						continue
					}
					if there {
						takes = append(takes, v)
					} else {
						adds = append(adds, v)
					}
				}
				e.New = moves(e.Old, adds, takes)
				state[id][attribute] = moves(state[id][attribute], adds, takes)
			}
			done = append(done, planning.Done{Account: id, Change: planning.Change{ID: fmt.Sprint(n), Verb: planning.Set, Account: id, Edits: []planning.Edit{e}}})
		}
		// somebody else takes a value away, or puts one in, and a reading shows it
		seen, strange := map[string]string{}, ""
		if rapid.Bool().Draw(t, "somebody else writes") {
			strange = rapid.SampledFrom(letters).Draw(t, "their value")
			now := record.SplitList(state["u1"]["groups"])
			if slices.Contains(now, strange) {
				state["u1"]["groups"] = moves(state["u1"]["groups"], nil, []string{strange})
			} else {
				state["u1"]["groups"] = moves(state["u1"]["groups"], []string{strange}, nil)
			}
			before["u1"]["groups"] = moves(before["u1"]["groups"], nil, []string{strange})
			if slices.Contains(record.SplitList(state["u1"]["groups"]), strange) {
				before["u1"]["groups"] = moves(before["u1"]["groups"], []string{strange}, nil)
			}
			seen["u1groups"] = state["u1"]["groups"]
		}
		intents, lasting := planning.Undo(done, "undone", "", func(account, attribute string) []string {
			if cell, shown := seen[account+attribute]; shown {
				return []string{cell}
			}
			return nil
		})
		for _, i := range intents {
			for _, w := range i.Values {
				if record.KindOf(w.Attribute).Multi() {
					state[i.Account][w.Attribute] = moves(state[i.Account][w.Attribute], w.Adds, w.Takes)
					continue
				}
				require.Equal(t, state[i.Account][w.Attribute], *w.Old, "it rests on what was written last")
				state[i.Account][w.Attribute] = w.New
			}
		}
		require.Equal(t, before, state, "lasting: %v", lasting)
	})
}
