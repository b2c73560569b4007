package execution

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"twinning/internal/connector"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// Who is in which group is no value of an account: it is written by adding the account to
// the group, or taking it out, and nobody else. Doing so twice changes nothing, so that a
// lost answer is asked for again.

// byGroups: the change is written through the system's groups.
func (x *run) byGroups(c store.Change) bool {
	return (c.Verb == planning.Enrol || c.Verb == planning.Withdraw) && x.shape.AsksMemberships()
}

// groupIDs are the system's groups by their names, read once.
type groupIDs struct {
	mu    sync.Mutex
	known map[string][]string
}

func (x *run) groupID(ctx context.Context, name string) (string, error) {
	x.groups.mu.Lock()
	defer x.groups.mu.Unlock()
	refused := func(reason, next string) error {
		return &connector.Error{Kind: connector.Refused, Doing: "find the group " + name, Target: x.system.Name, Reason: reason, Next: next}
	}
	if x.groups.known == nil {
		g, ok := x.conn.(connector.Groups)
		if !ok {
			return "", refused("this kind of system has no groups", "take groups: out of the charter")
		}
		known := map[string][]string{}
		if err := g.Groups(ctx, func(group connector.Group) error {
			key := record.Normal(record.Text, group.Name)
			known[key] = append(known[key], group.ID)
			return nil
		}); err != nil {
			return "", err
		}
		x.groups.known = known
	}
	switch ids := x.groups.known[record.Normal(record.Text, name)]; len(ids) {
	case 1:
		return ids[0], nil
	case 0:
		return "", refused("there is none of that name", "make it in "+x.system.Name+" first, or correct the name in the charter")
	default:
		return "", refused(fmt.Sprintf("%d have that name", len(ids)), "rename one of them")
	}
}

// comings are the groups that a change puts its account into, and takes it out of.
func comings(c store.Change) (come, gone []string) {
	for _, e := range c.Body.V.Edits {
		come, gone = append(come, beyond(record.List, e.New, e.Old)...), append(gone, beyond(record.List, e.Old, e.New)...)
	}
	return come, gone
}

// enrol carries a change of memberships out.
func (s *sender) enrol() (connector.Record, error) {
	g, ok := s.conn.(connector.Grouper)
	if !ok {
		return connector.Record{}, &connector.Error{Kind: connector.Unsupported, Doing: s.c.Verb + " " + s.c.Account, Target: s.system.Name, Reason: "the members of its groups can't be changed"}
	}
	come, gone := comings(s.c)
	for i, names := range [][]string{come, gone} {
		for _, name := range names {
			id, err := s.groupID(s.ctx, name)
			if err != nil {
				return connector.Record{}, err
			}
			add, withdraw := []string{s.c.Account}, []string(nil)
			if i == 1 {
				add, withdraw = withdraw, add
			}
			if err := g.Enrol(s.ctx, id, add, withdraw); err != nil {
				return connector.Record{}, err
			}
		}
	}
	return connector.Record{ID: s.c.Account}, nil
}

// enrolled reads whether the groups show what a change of memberships wanted; not says
// which does not.
func (x *run) enrolled(ctx context.Context, c store.Change, account string) (not string, err error) {
	come, gone := comings(c)
	for i, names := range [][]string{come, gone} {
		for _, name := range names {
			in, err := x.isMember(ctx, name, account)
			if err != nil {
				return "", err
			}
			if in != (i == 0) {
				return name, nil
			}
		}
	}
	return "", nil
}

func (x *run) isMember(ctx context.Context, name, account string) (bool, error) {
	id, err := x.groupID(ctx, name)
	if err != nil {
		return false, err
	}
	var members []string
	if x.members == nil || x.members[id] == nil {
		members = []string{}
		err := x.conn.(connector.Groups).Members(ctx, id, func(member string) error { // groupID found it by them
			members = append(members, member)
			return nil
		}, func(connector.Left) error { return nil })
		if err != nil {
			return false, err
		}
		if x.members != nil {
			x.members[id] = members
		}
	} else {
		members = x.members[id]
	}
	return slices.Contains(members, account), nil
}

// writes are the values that a change writes into its account.
func (x *run) writes(c store.Change) []planning.Edit {
	if x.byGroups(c) {
		return nil
	}
	return c.Body.V.Writes()
}

// refusedGroup settles a change whose group is not there.
func (s *sender) refusedGroup(err error) bool {
	if connector.KindOf(err) != connector.Refused {
		return false // sending it will tell
	}
	s.conclude("refused", "%v", err)
	return true
}
