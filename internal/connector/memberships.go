package connector

import (
	"context"
	"fmt"
	"slices"

	"twinning/internal/core/record"
)

// Memberships is the native attribute by which a shape asks for the groups that records are
// in: `groups: memberships`. No record carries it; it is put together from the system's
// groups, by their names, and written through them.
const Memberships = record.Memberships

// Nested is that of the groups which those are in, and so on: `nestedGroups: memberships.nested`.
const Nested = record.Nested

// Owned is that of the groups that a record owns: `ownedGroups: memberships.owned`.
const Owned = record.Owned

// Groups reads groups and who is in them.
type Groups interface {
	Groups(ctx context.Context, each func(Group) error) error
	// Members gives the ids of a group's members, however many there are, and
	// as Left those that are no record of ours; of a group, its id.
	Members(ctx context.Context, group string, each func(id string) error, left func(Left) error) error
}

// Read is the connector's own reading, with the memberships where the shape asks for them.
// Who is in a group does not show in what changed: such a shape is read as a whole.
func Read(ctx context.Context, c Connector, shape record.Shape, what Reading, sink Sink) (cursor string, err error) {
	members := shape.Asks(Memberships) || shape.Asks(Nested)
	if !members && !shape.Asks(Owned) {
		return c.Read(ctx, what, sink)
	}
	fault := func(kind Kind, reason, next string) error {
		return &Error{Kind: kind, Doing: "read the groups", Target: c.Declare().Origin, Reason: reason, Next: next}
	}
	g, ok := c.(Groups)
	switch {
	case !ok:
		return "", fault(Unsupported, "this kind of system has none", "take `groups: memberships` out of its shape")
	case what.Extent == Changes:
		return "", fault(Expired, "who is in a group does not show in what changed", "take a whole roster")
	}
	in := map[string][]string{}     // record -> groups
	within := map[string][]string{} // group -> groups
	owned := map[string][]string{}  // record -> groups
	named := map[string]string{}
	err = g.Groups(ctx, func(group Group) error {
		if other, twice := named[group.Name]; twice {
			return fault(Refused, fmt.Sprintf("two groups are called %q (%s and %s)", group.Name, other, group.ID), "groups are known by their names here: narrow what is read, or rename one")
		}
		named[group.Name] = group.ID
		for _, owner := range group.Owners {
			owned[owner] = append(owned[owner], group.Name)
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	if !members {
		return c.Read(ctx, what, &member{Sink: sink, owned: owned})
	}
	for name, id := range named {
		err := g.Members(ctx, id, func(member string) error {
			in[member] = append(in[member], name)
			return nil
		}, func(l Left) error { // what is no record of ours is nobody's account
			if l.ID != "" {
				within[l.ID] = append(within[l.ID], name)
			}
			return nil
		})
		if err != nil {
			return "", err
		}
	}
	above := map[string][]string{} // name -> names
	for name, id := range named {
		above[name] = within[id]
	}
	return c.Read(ctx, what, &member{sink, in, above, owned})
}

// member adds to each record the groups that it is in, and those that these are in.
type member struct {
	Sink
	in, above, owned map[string][]string
}

func (m *member) Record(r Record) error {
	if names := m.owned[r.ID]; len(names) > 0 {
		slices.Sort(names)
		r.Values[Owned] = names
	}
	if names := m.in[r.ID]; len(names) > 0 {
		slices.Sort(names)
		r.Values[Memberships] = names
		if nested := m.nested(names); len(nested) > 0 {
			r.Values[Nested] = nested
		}
	}
	return m.Sink.Record(r)
}

// nested are the groups that some are in by way of others; groups may be in one another.
func (m *member) nested(names []string) (list []string) {
	met := map[string]bool{}
	for _, name := range names {
		met[name] = true
	}
	for next := names; len(next) > 0; {
		var up []string
		for _, name := range next {
			for _, group := range m.above[name] {
				if !met[group] {
					met[group] = true
					up = append(up, group)
				}
			}
		}
		list, next = append(list, up...), up
	}
	slices.Sort(list)
	return list
}
