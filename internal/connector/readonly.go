package connector

import (
	"context"

	"twinning/internal/format"
)

// ReadOnly is a connector that can't write by any path: the service puts it
// around every system that nobody has opened for writing. It has no Deleter,
// Reissuer or Grouper either; a probe may still say what could be written.
func ReadOnly(c Connector) Connector { return readOnly{c} }

// ScripterOf is what puts changes of a system down: that writes nothing, so that it is had of
// one that is closed for writing as well.
func ScripterOf(c Connector) (Scripter, bool) {
	if r, ok := c.(readOnly); ok {
		c = r.c
	}
	s, ok := c.(Scripter)
	return s, ok
}

type readOnly struct{ c Connector }

func (r readOnly) closed(doing string) error {
	return &Error{Kind: Unsupported, Doing: doing, Target: "this system", Reason: "it is read-only", Next: "open it for writing first: twinning system open NAME"}
}

func (r readOnly) Declare() Declaration { return r.c.Declare() }
func (r readOnly) Read(ctx context.Context, what Reading, sink Sink) (string, error) {
	return r.c.Read(ctx, what, sink)
}
func (r readOnly) One(ctx context.Context, id string) (Record, error) { return r.c.One(ctx, id) }
func (r readOnly) Find(ctx context.Context, native, value string) ([]Record, error) {
	return r.c.Find(ctx, native, value)
}
func (r readOnly) Holders(ctx context.Context, name string) ([]string, error) {
	if h, ok := r.c.(NameHolder); ok {
		return h.Holders(ctx, name)
	}
	return nil, &Error{Kind: Unsupported, Doing: "ask who holds " + name, Target: "this system", Reason: "it can't be asked"}
}
func (r readOnly) Groups(ctx context.Context, each func(Group) error) error {
	if g, ok := r.c.(Groups); ok {
		return g.Groups(ctx, each)
	}
	return &Error{Kind: Unsupported, Doing: "read the groups", Target: "this system", Reason: "this kind of system has none"}
}
func (r readOnly) Members(ctx context.Context, group string, each func(string) error, left func(Left) error) error {
	if g, ok := r.c.(Groups); ok {
		return g.Members(ctx, group, each, left)
	}
	return &Error{Kind: Unsupported, Doing: "read the members of " + group, Target: "this system", Reason: "this kind of system has no groups"}
}
func (r readOnly) Write(context.Context, Write) (Record, error) { return Record{}, r.closed("write") }
func (r readOnly) Probe(ctx context.Context, told func(Step)) {
	if p, ok := r.c.(Prober); ok {
		p.Probe(ctx, told)
	}
}
func (r readOnly) Look(ctx context.Context) (format.About, []string, error) {
	if l, ok := r.c.(Looker); ok {
		return l.Look(ctx)
	}
	return format.About{}, nil, &Error{Kind: Unsupported, Doing: "look at the file", Target: "this system", Reason: "it is no file"}
}
func (r readOnly) Close() error {
	if c, ok := r.c.(Closer); ok {
		return c.Close()
	}
	return nil
}
