package execution

import (
	"context"
	"slices"
	"strings"

	"twinning/internal/connector"
	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// What the charter's conditions came to when a change was drafted, they must come to again: on
// the newest rosters when a plan is sealed and started, and on the account as it was read just
// before it is written.

// implied are the premises of conditions that every change of an account rests on; they are not
// kept with each.
func implied(rules *charter.Charter, c store.Change) (list []planning.Premise) {
	if rules.Accounts.ReadsAccounts() && c.Account != "" {
		list = append(list, planning.Premise{Kind: planning.Condition, Key: planning.ConditionKey(rules.Accounts.Path, "", c.Account), Version: "true"})
	}
	return list
}

// conditions evaluates what a lane's charter says of records.
type conditions struct {
	*Engine
	lane          store.Lane
	rules         *charter.Charter
	byPath        map[string]*charter.Expr
	authority     store.System
	downstream    store.System
	needsPeople   []string
	needsAccounts []string
	peopleShape   record.Shape
	accountsShape record.Shape
}

func (e *Engine) conditionsOf(ctx context.Context, lane store.Lane, rules *charter.Charter) (k *conditions, err error) {
	k = &conditions{Engine: e, lane: lane, rules: rules, byPath: rules.ByPath()}
	k.needsPeople, k.needsAccounts = rules.Needs()
	if k.authority, err = e.Store.SystemByID(ctx, lane.AuthorityID); err != nil {
		return nil, err
	}
	if k.downstream, err = e.Store.SystemByID(ctx, lane.DownstreamID); err != nil {
		return nil, err
	}
	if k.peopleShape, err = e.Reach.NewestShape(ctx, k.authority); err != nil {
		return nil, err
	}
	k.accountsShape, err = e.Reach.NewestShape(ctx, k.downstream)
	return k, err
}

// asRead is an account as a system has just answered with it.
type asRead struct {
	id     string
	roster *record.Roster
}

// read makes a record of an account comparable with those of rosters. Who is in which group may
// be no value of the account: then it is as the newest roster shows it.
func (k *conditions) read(ctx context.Context, shape record.Shape, r connector.Record) (*asRead, error) {
	values := r.Values
	if shape.AsksMemberships() {
		newest, err := k.recordsNow(ctx, k.downstream, []string{r.ID})
		if err != nil {
			return nil, err
		}
		values = withMemberships(shape, values, newest[r.ID])
	}
	load := shape.NewLoader(k.needsAccounts)
	if err := load.AddStored(r.ID, values, nil); err != nil {
		return nil, err
	}
	roster, err := load.Roster()
	return &asRead{r.ID, roster}, err
}

// withMemberships are the values of an account with those that only a roster knows.
func withMemberships(shape record.Shape, values, rostered map[string][]string) map[string][]string {
	all := make(map[string][]string, len(values)+1)
	for name, v := range values {
		all[name] = v
	}
	for _, name := range shape.Memberships() {
		all[name] = rostered[name]
	}
	return all
}

// recordsNow reads some records of a system as its newest roster has them, by id.
func (k *conditions) recordsNow(ctx context.Context, x store.System, ids []string) (map[string]map[string][]string, error) {
	found := map[string]map[string][]string{}
	err := k.Store.RecordsNow(ctx, x.ID, ids, func(id string, native map[string][]string, _ []byte) error {
		found[id] = native
		return nil
	})
	return found, err
}

// rosterNow makes a roster of some records of a system, as its newest one has them.
func (k *conditions) rosterNow(ctx context.Context, x store.System, shape record.Shape, ids, wanted []string) (*record.Roster, error) {
	load := shape.In(k.rules.Zone).NewLoader(wanted)
	if len(ids) > 0 {
		if err := k.Store.RecordsNow(ctx, x.ID, ids, load.AddStored); err != nil {
			return nil, err
		}
	}
	return load.Roster()
}

// refers reports whether an expression reads what refers to another record by a native value.
func (k *conditions) refers(path string) bool {
	e := k.byPath[path]
	person, account := e.Reads()
	is := func(shape record.Shape, names []string) bool {
		return slices.ContainsFunc(names, func(n string) bool { return shape.Attributes[n].Refers != "" })
	}
	return is(k.peopleShape, person) || is(k.accountsShape, account)
}

// facts tells of premises about conditions how they come out now: by the account as it was
// read, where it is that one, or else by the newest rosters. Where neither record has moved
// since the reconciliation, it comes to what it came to.
func (k *conditions) facts(ctx context.Context, premises []planning.Premise, since *Since, own *asRead) (map[planning.Fact]string, error) {
	facts := map[planning.Fact]string{}
	type asked struct {
		fact                  planning.Fact
		path, person, account string
	}
	var open []asked
	var people, accounts []string
	for _, p := range premises {
		if p.Kind != planning.Condition {
			continue
		}
		path, person, account := planning.CutThree(p.Key)
		x := asked{planning.Fact{Kind: p.Kind, Key: p.Key}, path, person, account}
		if k.refers(path) { // a reference is not resolved by its record alone
			facts[x.fact] = p.Version
			continue
		}
		mine := own != nil && account == own.id
		if !mine && (account == "" || !since.moved[account]) {
			facts[x.fact] = p.Version // of the person it is asked by their digest
			continue
		}
		open = append(open, x)
		if person != "" {
			people = append(people, person)
		}
		if !mine && account != "" {
			accounts = append(accounts, account)
		}
	}
	if len(open) == 0 {
		return facts, nil
	}
	left, err := k.rosterNow(ctx, k.authority, k.peopleShape, people, k.needsPeople)
	if err != nil {
		return nil, err
	}
	right, err := k.rosterNow(ctx, k.downstream, k.accountsShape, accounts, k.needsAccounts)
	if err != nil {
		return nil, err
	}
	scope := charter.Scope{People: left, Accounts: right, Today: calendar.Day(k.Now(), k.rules.Zone)}
	bound := map[*record.Roster]map[string]*charter.Bound{}
	for _, x := range open {
		s := scope
		if own != nil && x.account == own.id {
			s.Accounts = own.roster
		}
		if bound[s.Accounts] == nil {
			bound[s.Accounts] = map[string]*charter.Bound{}
		}
		b := bound[s.Accounts][x.path]
		if b == nil {
			if b = k.byPath[x.path].Bind(s); b == nil {
				continue // the charter has no such rule any more: it is not known
			}
			bound[s.Accounts][x.path] = b
		}
		p, a := -1, -1
		gone := false
		if x.person != "" {
			if row, there := left.Find(x.person); there {
				p = row
			} else {
				gone = true
			}
		}
		if x.account != "" {
			if row, there := s.Accounts.Find(x.account); there {
				a = row
			} else {
				gone = true
			}
		}
		if gone {
			facts[x.fact] = planning.Gone
			continue
		}
		facts[x.fact] = strings.Clone(b.Eval(p, a).Outcome())
	}
	return facts, nil
}

// valueFacts tells of premises about values that accounts hold how they are now, and of the
// change's own account what it rests on, see planning.Change.RestsOn.
func (s Since) valueFacts(premises []planning.Premise, facts map[planning.Fact]string) {
	for _, p := range premises {
		if p.Kind != planning.AccountValue {
			continue
		}
		lane, account, attribute := planning.CutThree(p.Key)
		facts[planning.Fact{Kind: p.Kind, Key: p.Key}] = s.valueNow(lane, account, attribute, p.Version)
	}
}

// valueNow is what an account holds now, where it has moved since; else it is what it held.
func (s Since) valueNow(lane, account, attribute, was string) string {
	moved, roster := s.moved, s.accounts
	if lane != "" {
		there := s.lanes[lane]
		moved, roster = there.moved, there.accounts
	}
	if !moved[account] {
		return was
	}
	if roster == nil {
		return planning.Gone
	}
	row, there := roster.Find(account)
	if !there {
		return planning.Gone
	}
	now := record.JoinList(roster.All(row, attribute))
	if record.Same(record.KindOf(attribute), now, was) {
		return was
	}
	return strings.Clone(now)
}

// earlier are the values that the plan's own changes of an account give an attribute before one
// of them: what it rests on may be that by now.
func (q *queue) earlier(c store.Change, attribute string) (values []string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for i := range q.order {
		o := &q.order[i]
		if o.ID == c.ID || o.Account != c.Account {
			continue
		}
		switch q.outcome[o.ID] {
		case "done", "unchanged", "different", "waiting":
			if sent := q.rebased[o.ID]; sent != nil {
				o = &store.Change{Body: store.JSON[planning.Change]{V: planning.Change{Edits: sent}}}
			}
			for _, e := range o.Body.V.Edits {
				if e.Attribute == attribute && !slices.Contains(values, e.New) {
					values = append(values, e.New)
				}
			}
		}
	}
	return values
}
