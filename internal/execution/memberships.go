package execution

import (
	"context"
	"fmt"
	"slices"
	"strings"
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
	return (c.Verb == planning.Enrol || c.Verb == planning.Withdraw) && x.shape.AsksMemberships() || slices.ContainsFunc(c.Body.V.Edits, x.owns)
}

// owns: the edit says which groups the account owns.
func (x *run) owns(e planning.Edit) bool {
	return x.shape.Attributes[e.Attribute].Native == connector.Owned
}

// writes are the values that a change writes into its account.
func (x *run) writes(c store.Change) []planning.Edit {
	if x.byGroups(c) {
		return nil
	}
	return c.Body.V.Writes()
}

// groups are the system's, and who is in those that changes name. Each is read once, since a
// group of everybody may be named by a change for each of them.
type groups struct {
	mu      sync.Mutex
	ids     map[string][]string        // by normalised name
	members map[string]map[string]bool // by id
	owners  map[string]map[string]bool // by id
}

// groupID finds a group by its name; "" is one that is not there and is made with its first
// member. The caller holds the lock.
func (x *run) groupID(ctx context.Context, name string) (string, error) {
	refused := func(reason, next string) error {
		return &connector.Error{Kind: connector.Refused, Doing: "find the group " + name, Target: x.system.Name, Reason: reason, Next: next}
	}
	if x.groups.ids == nil {
		g, ok := x.conn.(connector.Groups)
		if !ok {
			return "", refused("this kind of system has no groups", "take groups: out of the charter")
		}
		ids, owners := map[string][]string{}, map[string]map[string]bool{}
		if err := g.Groups(ctx, func(group connector.Group) error {
			key := record.Normal(record.Text, group.Name)
			ids[key], owners[group.ID] = append(ids[key], group.ID), map[string]bool{}
			for _, owner := range group.Owners {
				owners[group.ID][owner] = true
			}
			return nil
		}); err != nil {
			return "", err
		}
		x.groups.ids, x.groups.owners, x.groups.members = ids, owners, map[string]map[string]bool{}
	}
	switch ids := x.groups.ids[record.Normal(record.Text, name)]; len(ids) {
	case 1:
		return ids[0], nil
	case 0:
		if x.charter.MakesGroup(name) {
			return "", nil
		}
		return "", refused("there is none of that name", "make it in "+x.system.Name+" first, or correct the name in the charter")
	default:
		return "", refused(fmt.Sprintf("%d have that name", len(ids)), "rename one of them")
	}
}

// passage is an account's way into a group, or out of it.
type passage struct {
	group string
	in    bool
	owns  bool // it is about who owns the group
}

func (x *run) passages(c store.Change) (list []passage) {
	for _, e := range c.Body.V.Edits {
		owns := x.owns(e)
		added, taken := planning.Moved(record.List, e.Old, e.New)
		for _, group := range added {
			list = append(list, passage{group, true, owns})
		}
		for _, group := range taken {
			list = append(list, passage{group, false, owns})
		}
	}
	return list
}

// enrol carries a change of memberships out.
func (s *sender) enrol() (connector.Record, error) {
	g, ok := s.conn.(connector.Grouper)
	owner, owning := s.conn.(connector.Owner)
	if !ok || !owning && slices.ContainsFunc(s.c.Body.V.Edits, s.owns) {
		return connector.Record{}, &connector.Error{Kind: connector.Unsupported, Doing: s.c.Verb + " " + s.c.Account, Target: s.system.Name, Reason: "who is in its groups, or owns them, can't be changed"}
	}
	if slices.ContainsFunc(s.c.Body.V.Edits, func(e planning.Edit) bool { return !s.owns(e) && e.Attribute != "groups" }) {
		return connector.Record{}, &connector.Error{Kind: connector.Refused, Doing: s.c.Verb + " " + s.c.Account, Target: s.system.Name, Reason: "who owns groups is written by a hand-over alone", Next: "take the attribute out of the charter's attributes"}
	}
	for _, p := range s.passages(s.c) {
		id, err := s.findOrMake(g, p)
		switch {
		case err != nil:
			return connector.Record{}, err
		case id == "" && !p.in:
			continue // a group that is not there is left already
		case id == "":
			return connector.Record{}, &connector.Error{Kind: connector.Refused, Doing: "hand over the group " + p.group, Target: s.system.Name, Reason: "it is not there"}
		}
		change := g.Enrol
		if p.owns {
			change = owner.Own
		}
		who := []string{s.c.Account}
		if p.in {
			err = change(s.ctx, id, who, nil)
		} else {
			err = change(s.ctx, id, nil, who)
		}
		if err != nil {
			return connector.Record{}, err
		}
	}
	return connector.Record{ID: s.c.Account}, nil
}

// findOrMake finds a group that the account is to be put into or taken out of, and makes it in
// the first case; "" is that it is not there. Only one worker does at a time, and after an
// error the groups are read again: one that was made and not heard of is found. Whoever makes
// one is put into it all the same: some systems forget the members of a new group.
func (s *sender) findOrMake(g connector.Grouper, p passage) (id string, err error) {
	s.groups.mu.Lock()
	defer s.groups.mu.Unlock()
	if id, err = s.groupID(s.ctx, p.group); id != "" || err != nil || !p.in || p.owns {
		return id, err
	}
	s.groups.ids = nil // somebody else may have made it since
	if id, err = s.groupID(s.ctx, p.group); id != "" || err != nil {
		return id, err
	}
	if id, err = g.MakeGroup(s.ctx, p.group, s.c.Account); err != nil {
		s.groups.ids = nil
		return "", err
	}
	s.trace("made the group %s", p.group)
	key := record.Normal(record.Text, p.group)
	s.groups.ids[key] = append(s.groups.ids[key], id)
	return id, nil
}

// enrolled reads whether the groups show what a change of memberships wanted; not says
// which does not. What was read of a group before is gone by, unless it is to be read anew.
func (x *run) enrolled(ctx context.Context, c store.Change, account string, anew bool) (not string, err error) {
	for _, p := range x.passages(c) {
		in, err := x.isMember(ctx, p, account, anew)
		if err != nil {
			return "", err
		}
		if in != p.in {
			return p.group, nil
		}
	}
	return "", nil
}

// isMember: the account is in the group, or owns it.
func (x *run) isMember(ctx context.Context, p passage, account string, anew bool) (bool, error) {
	x.groups.mu.Lock()
	defer x.groups.mu.Unlock()
	if anew && (p.owns || x.charter.MakesGroup(p.group)) {
		x.groups.ids = nil
	}
	id, err := x.groupID(ctx, p.group)
	if err != nil || id == "" {
		return false, err
	}
	if p.owns {
		return x.groups.owners[id][account], nil
	}
	if x.groups.members[id] == nil || anew {
		members := map[string]bool{}
		if err := x.conn.(connector.Groups).Members(ctx, id, func(member string) error { // groupID found it by them
			members[member] = true
			return nil
		}, func(connector.Left) error { return nil }); err != nil {
			return false, err
		}
		x.groups.members[id] = members
	}
	return x.groups.members[id][account], nil
}

// mostRead is how many members a group may have for it to be read after each change of it; what
// became of changes to larger ones is seen by verifying the plan.
const mostRead = 1000

// groupsShow concludes from the groups as they are after the change. Where they can't be read, it
// was accepted all the same, and verifying tells.
func (s *sender) groupsShow() {
	s.conclude("done", "")
	if s.declared.Lag > 0 {
		return
	}
	var not, shows []string // shows: of those that are changed
	for _, p := range s.passages(s.c) {
		if p.owns {
			continue
		}
		in, known, err := s.showsMember(p)
		if err != nil {
			s.trace("%v", err)
		}
		if known && in != p.in && s.looksAgain(nil) {
			in, known, err = s.showsMember(p)
		}
		if err != nil || !known {
			in = p.in
		}
		if in {
			shows = append(shows, p.group)
		}
		if in != p.in {
			not = append(not, p.group)
		}
	}
	if len(not) > 0 {
		s.r.Differs.V = map[string]string{"groups": record.JoinList(shows)}
		s.conclude("different", "%s accepted it, and shows otherwise: %s", s.system.Name, strings.Join(not, ", "))
	}
}

// showsMember reads whether the account is in a group after it was changed, without what was read
// before; known is false where that group is too large to be read again.
func (s *sender) showsMember(p passage) (in, known bool, err error) {
	s.groups.mu.Lock()
	id, err := s.groupID(s.ctx, p.group)
	many := len(s.groups.members[id])
	s.groups.mu.Unlock()
	if err != nil || id == "" || many > mostRead {
		return false, false, err
	}
	err = s.conn.(connector.Groups).Members(s.ctx, id, func(member string) error { // groupID found it by them
		in = in || member == s.c.Account
		return nil
	}, func(connector.Left) error { return nil })
	return in, err == nil, err
}

// refusedGroup settles a change whose group is not there.
func (s *sender) refusedGroup(err error) bool {
	if connector.KindOf(err) != connector.Refused {
		return false // sending it will tell
	}
	s.conclude("refused", "%v", err)
	return true
}
