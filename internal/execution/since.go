package execution

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"

	"twinning/internal/connector"
	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// errNewer is that a roster was taken since the newer ones were looked at.
var errNewer = fmt.Errorf("a roster was taken meanwhile")

// newer knows the rosters that were taken since the reconciliation, and what the
// records that came or changed since carry. It is looked at anew whenever another roster is
// taken.
type newer struct {
	*run
	mu         sync.Mutex
	looked     bool
	seen       store.Standing // of the rosters that were looked at
	since      Since
	conditions *conditions
}

// Since is what the records carry that came or changed since a reconciliation.
type Since struct {
	keys  map[string]carrier // by key and value, of both sides
	mails map[string]carrier // by address; only where the charter sends letters
	names map[string]carrier // folded, in the systems that share the downstream's names
	fold  func(string) string
	// moved are the accounts that came, changed or went; accounts are those of them that no receipt
	// of ours is about, as they are now
	moved    map[string]bool
	accounts *record.Roster
	lanes    map[string]elsewhereSince // of the lanes that the charter asks for
}

// elsewhereSince are the accounts of another lane that moved since the reconciliation.
type elsewhereSince struct {
	moved    map[string]bool
	accounts *record.Roster
}

// carrier tells who came or changed and carries a value.
type carrier struct {
	side, id string
	more     bool
	whose    string // of a name in another system: the person that it is known to belong to
}

// look brings what is known up to the newest rosters. Unless it is to look anew, it is enough
// that it has looked once: whoever goes by it is told where there are newer ones.
func (n *newer) look(ctx context.Context, anew bool) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.looked && !anew {
		return nil
	}
	now, err := n.Store.Standing(ctx, n.ground, n.w.Task)
	if err != nil {
		return err
	}
	if n.sees(now) {
		return nil
	}
	since, err := CarriedSince(ctx, n.Engine, n.lane, n.result, n.charter)
	if err != nil {
		return err
	}
	if n.conditions == nil {
		if n.conditions, err = n.conditionsOf(ctx, n.lane, n.charter); err != nil {
			return err
		}
	}
	n.since, n.seen, n.looked = since, now, true
	return nil
}

// sees reports whether the rosters that stand now were looked at. The caller holds the lock.
func (n *newer) sees(now store.Standing) bool {
	return n.looked && now.PeopleRoster == n.seen.PeopleRoster && now.AccountsRoster == n.seen.AccountsRoster && now.SharedRoster == n.seen.SharedRoster
}

// at reports whether these are the rosters that were looked at.
func (n *newer) at(now store.Standing) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.sees(now)
}

// facts tells of a change's premises about keys and names whether somebody who came or
// changed since carries the value too, beside the two themselves.
// own is the change's account as it was just read, nil where it was not.
func (n *newer) facts(ctx context.Context, c store.Change, own *asRead) (map[planning.Fact]string, error) {
	n.mu.Lock()
	since, conditions := n.since, n.conditions
	n.mu.Unlock()
	premises := n.premisesOf(c)
	facts := since.facts(c, premises)
	came, err := conditions.facts(ctx, premises, &since, own)
	maps.Copy(facts, came)
	return facts, err
}

func (s Since) facts(c store.Change, premises []planning.Premise) map[planning.Fact]string {
	facts := map[planning.Fact]string{}
	s.valueFacts(premises, facts)
	for _, p := range premises {
		switch fact := (planning.Fact{Kind: p.Kind, Key: p.Key}); p.Kind {
		case planning.KeyAlone:
			who, met := s.keys[p.Key]
			own := who.side == "person" && who.id == c.Person || who.side == "account" && who.id == c.Account
			if met && (!own || who.more) {
				facts[fact] = fmt.Sprintf("%s %q carries it since", who.side, who.id)
			}
		case planning.MailAlone:
			address, _ := planning.CutKey(p.Key)
			who, met := s.mails[address]
			own := who.side == "person" && who.id == c.Person || who.side == "account" && who.id == c.Account
			if met && (!own || who.more) {
				facts[fact] = fmt.Sprintf("%s %q carries it since", who.side, who.id)
			}
		case planning.NameNowhere:
			name, person := planning.CutKey(p.Key)
			if who, met := s.names[s.fold(name)]; met && (person == "" || who.whose != person) {
				facts[fact] = fmt.Sprintf("%s, which shares its names, has it since (%s)", who.side, who.id)
			}
		}
	}
	return facts
}

// CarriedSince collects what the records carry that came or changed since a reconciliation's
// rosters.
func CarriedSince(ctx context.Context, e *Engine, lane store.Lane, r store.Reconciliation, rules *charter.Charter) (s Since, err error) {
	s = Since{keys: map[string]carrier{}, mails: map[string]carrier{}, fold: rules.Alike.Fold, moved: map[string]bool{}, lanes: map[string]elsewhereSince{}}
	needPeople, needAccounts := rules.Needs()
	empty, err := record.NewBuilder(nil).Roster()
	if err != nil {
		return s, err
	}
	for _, side := range []struct {
		word           string
		system, roster int64
		wanted         []string
	}{{"person", lane.AuthorityID, r.PeopleRoster, needPeople}, {"account", lane.DownstreamID, r.AccountsRoster, needAccounts}} {
		newest, err := e.Store.NewestRoster(ctx, side.system)
		if err != nil {
			return s, err
		}
		if newest.ID == side.roster {
			continue
		}
		x, err := e.Store.SystemByID(ctx, side.system)
		if err != nil {
			return s, err
		}
		roster, err := e.recordsSince(ctx, x, side.roster, side.wanted, rules)
		if err != nil {
			return s, err
		}
		scope := charter.Scope{People: roster, Accounts: empty, Today: calendar.Day(e.Now(), rules.Zone)}
		if side.word == "account" {
			scope.People, scope.Accounts = empty, roster
			if s.moved, err = e.movedSince(ctx, x.ID, side.roster); err != nil {
				return s, err
			}
			s.accounts = roster
		}
		if err := s.noteMails(ctx, e, side.word, newest.ID, roster, scope, rules); err != nil {
			return s, err
		}
		for _, k := range rules.Keys {
			person, account := k.Person.Bind(scope), k.Account.Bind(scope)
			for i := range roster.Len() {
				var cell string
				if side.word == "person" {
					cell = person.Eval(i, -1).Cell()
				} else {
					cell = account.Eval(-1, i).Cell()
				}
				record.EachValue(cell, func(v string) {
					key := planning.KeyOf(k.Name, record.Normal(k.Kind, v))
					if was, met := s.keys[key]; met && was.id != roster.ID(i) {
						was.more = true
						s.keys[key] = was
						return
					}
					s.keys[key] = carrier{side: side.word, id: roster.ID(i)}
				})
			}
		}
	}
	if err := s.noteLanes(ctx, e, lane, r, rules); err != nil {
		return s, err
	}
	s.names, err = e.namesSince(ctx, lane, r, rules)
	return s, err
}

func (e *Engine) movedSince(ctx context.Context, system, roster int64) (map[string]bool, error) {
	ids, err := e.Store.Moved(ctx, system, roster)
	moved := make(map[string]bool, len(ids))
	for _, id := range ids {
		moved[id] = true
	}
	return moved, err
}

// noteLanes notes what moved of the accounts of other lanes that the charter asks for.
func (s Since) noteLanes(ctx context.Context, e *Engine, lane store.Lane, r store.Reconciliation, rules *charter.Charter) error {
	for name, wanted := range rules.Lanes() {
		l, err := e.Store.LaneByName(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			continue // nothing was known of it then either
		}
		if err != nil {
			return err
		}
		x, err := e.Store.SystemByID(ctx, l.DownstreamID)
		if err != nil {
			return err
		}
		then, err := e.Store.RosterAt(ctx, x.ID, r.At)
		if err != nil {
			return err
		}
		var there elsewhereSince
		if there.moved, err = e.movedSince(ctx, x.ID, then); err != nil {
			return err
		}
		if there.accounts, err = e.recordsSince(ctx, x, then, append([]string{"id"}, wanted...), rules); err != nil {
			return err
		}
		s.lanes[name] = there
	}
	return nil
}

// noteMails notes whom a letter to an address would reach, of the records of a side.
func (s Since) noteMails(ctx context.Context, e *Engine, side string, newest int64, roster *record.Roster, scope charter.Scope, rules *charter.Charter) error {
	to := rules.Mailed()
	if len(to) == 0 {
		return nil
	}
	unread, err := e.Store.AllRejections(ctx, newest)
	if err != nil {
		return err
	}
	note := func(cell, id string) {
		record.EachValue(cell, func(v string) {
			address := record.Normal(record.Email, v)
			if was, met := s.mails[address]; met && (was.side != side || was.id != id) {
				was.more = true
				s.mails[address] = was
				return
			}
			s.mails[address] = carrier{side: side, id: id}
		})
	}
	attributes := charter.Reached
	if side == "account" {
		attributes, to = []string{"userName", "email", "aliases"}, nil
	}
	for i := range roster.Len() {
		for _, name := range attributes {
			note(roster.Column(name).Cell(i), roster.ID(i))
		}
		for _, e := range to {
			note(e.Bind(scope).Eval(i, -1).Cell(), roster.ID(i))
		}
	}
	for _, x := range unread { // what is known of those that could not be read
		note(record.JoinList(x.Names), x.ID)
	}
	return nil
}

// recordsSince reads the records of a system that came or changed after a roster.
func (e *Engine) recordsSince(ctx context.Context, x store.System, roster int64, wanted []string, rules *charter.Charter) (*record.Roster, error) {
	shape, err := e.Reach.NewestShape(ctx, x)
	if err != nil {
		return nil, err
	}
	load := shape.In(rules.Zone).NewLoader(wanted)
	if err := e.Store.RecordsSince(ctx, x.ID, roster, load.AddStored); err != nil {
		return nil, err
	}
	return load.Roster()
}

// namesSince collects the names that came or changed since in the systems that share the
// downstream's, and those that plans of ours have given there.
func (e *Engine) namesSince(ctx context.Context, lane store.Lane, r store.Reconciliation, rules *charter.Charter) (map[string]carrier, error) {
	others, err := e.Store.Sharing(ctx, lane.DownstreamID)
	if err != nil || len(others) == 0 {
		return nil, err
	}
	names := map[string]carrier{}
	for _, x := range others {
		note := func(name string, by carrier) {
			by.side, name = x.Name, rules.Alike.Fold(name)
			if before, met := names[name]; met && before.whose != by.whose {
				by.whose = ""
			}
			names[name] = by
		}
		given, err := e.Store.GivenSince(ctx, x.ID, r.At)
		if err != nil {
			return nil, err
		}
		for _, g := range given {
			g.Names(lane.AuthorityID, func(name, person string) { note(name, carrier{id: "given by a plan", whose: person}) })
		}
		then, err := e.Store.RosterAt(ctx, x.ID, r.At)
		if err != nil {
			return nil, err
		}
		roster, err := e.recordsSince(ctx, x, then, []string{"id", "userName", "email", "aliases"}, rules)
		if err != nil {
			return nil, err
		}
		whose, err := e.Store.Whose(ctx, x.ID, lane.AuthorityID)
		if err != nil {
			return nil, err
		}
		for i := range roster.Len() {
			id := roster.ID(i)
			if x.ID == lane.AuthorityID {
				whose[id] = id
			}
			for _, attribute := range []string{"userName", "email", "aliases"} {
				record.EachValue(roster.Column(attribute).Cell(i), func(v string) {
					note(v, carrier{id: fmt.Sprintf("account %q", id), whose: whose[id]})
				})
			}
		}
	}
	return names, nil
}

// asRead makes an account that was just read comparable with those of rosters; nil where the
// change it is read for needs no conditions looked at.
func (n *newer) asRead(ctx context.Context, c store.Change, r connector.Record) (*asRead, error) {
	if !slices.ContainsFunc(n.premisesOf(c), func(p planning.Premise) bool { return p.Kind == planning.Condition }) {
		return nil, nil
	}
	if err := n.look(ctx, false); err != nil {
		return nil, err
	}
	n.mu.Lock()
	conditions := n.conditions
	n.mu.Unlock()
	return conditions.read(ctx, n.shape, r)
}

// accountsRoster is the newest roster of the accounts that was looked at.
func (n *newer) accountsRoster() int64 {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.seen.AccountsRoster
}
