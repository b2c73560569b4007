package charter

import (
	"slices"
	"twinning/internal/core/record"

	"twinning/internal/core/document"
)

func (r *reader) readLeavers(n document.Node) {
	if !n.Present() {
		return
	}
	line, _ := n.Place()
	l := &Leavers{Readings: 3, Days: 7, Line: line}
	f := n.Declared(Keys)
	if g, ok := f["grace"]; ok {
		grace := g.Declared(Keys)
		if v, ok := grace["readings"]; ok {
			l.Readings = v.Int(1)
		}
		if v, ok := grace["days"]; ok {
			l.Days = v.Int(0)
		}
	}
	if n, ok := f["hold"]; ok {
		l.Hold = r.compiler.compile(n, wantCondition, "person", "account")
	}
	handOver := f["hand-over"]
	if handOver.Present() {
		l.HandOver = r.readHandOver(handOver)
	}
	for _, s := range f["stages"].Items() {
		f := s.Declared(Keys)
		stage := Stage{}
		stage.Line, _ = s.Place()
		if a, ok := f["after"]; ok {
			stage.After = a.Days()
		}
		if len(f["do"].Items()) == 0 {
			s.Problem("a stage needs `do:` with what is to be done, such as [suspend]")
		}
		for _, do := range f["do"].Items() {
			verb := do.Word(Keys, "leavers.stages[].do[]")
			if verb != do.Text() {
				continue // it is told
			}
			if slices.ContainsFunc(l.Stages, func(o Stage) bool { return slices.Contains(o.Do, verb) }) || slices.Contains(stage.Do, verb) {
				do.Problem("%s is done by an earlier stage already", verb)
			}
			if verb == HandsOver && !handOver.Present() {
				do.Problem("to whom addresses are handed over is not said; write `hand-over: {to: person.manager}` under `leavers:`")
			}
			stage.Do = append(stage.Do, verb)
		}
		l.Stages = append(l.Stages, stage)
	}
	r.Leavers = l
}

func (r *reader) readHandOver(n document.Node) *HandOver {
	f := n.Declared(Keys)
	if !f["to"].Present() {
		n.Problem("`hand-over:` needs `to:`, the expression that gives the id of whoever takes over")
		return nil
	}
	h := &HandOver{To: r.compiler.compile(f["to"], wantText, "person", "account")}
	if a, ok := f["address"]; ok {
		h.Address = r.compiler.compile(a, wantText, "person", "account")
	}
	h.Lists, h.References = r.readPassedOn(f["lists"], true), r.readPassedOn(f["references"], false)
	return h
}

// readPassedOn reads attributes whose values pass on: what a rule gives, it would take back.
func (r *reader) readPassedOn(n document.Node, lists bool) (names []string) {
	names = r.readAfter(n)
	for i, item := range n.Items() {
		name := names[i]
		_, ruled := unwritable[name]
		r.EveryRule(func(rule AttributeRule) { ruled = ruled || rule.Attribute == name })
		_, canonical := record.Canonical(name)
		switch {
		case !canonical && !slices.Contains(r.compiler.vocabulary.Account, name): // it is told
		case ruled && name != "email":
			item.Problem("%s is ruled by the charter, which would take it back; leave one of them out", name)
		case lists && !record.KindOf(name).Multi():
			item.Problem("%s is no list; expected one such as ownedGroups or entitlements", name)
		case !lists && record.KindOf(name).Multi():
			item.Problem("%s is a list; `references:` are attributes with one value, such as manager", name)
		}
	}
	return names
}

func (r *reader) readOrphans(n document.Node) {
	r.Orphans = n.Declared(Keys)["do"].Word(Keys, "orphans.do")
}
