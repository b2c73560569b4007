package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"twinning/internal/access"
	"twinning/internal/core/charter"
	"twinning/internal/core/finding"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/store"
	"twinning/internal/work"
)

type laneParams struct {
	Lane  int64 `json:"lane"`
	Learn bool  `json:"learn,omitempty"` // weigh anew what evidence is worth
	Keep  bool  `json:"keep,omitempty"`  // go by what a trial finds
}

// Reconcile queues a reconciliation of the lane's newest rosters.
func (s *Service) Reconcile(ctx context.Context, who access.Caller, lane string, learn bool) (store.Task, error) {
	return s.passOver(ctx, who, lane, "reconcile", laneParams{Learn: learn}, map[string]string{"learn": fmt.Sprint(learn)})
}

// passOver queues work on the lane's newest rosters.
func (s *Service) passOver(ctx context.Context, who access.Caller, lane, kind string, params laneParams, detail map[string]string) (store.Task, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return store.Task{}, err
	}
	params.Lane = l.ID
	for _, system := range []int64{l.AuthorityID, l.DownstreamID} {
		if _, err := s.Store.NewestRoster(ctx, system); errors.Is(err, store.ErrNotFound) {
			name := map[int64]string{l.AuthorityID: l.Authority, l.DownstreamID: l.Downstream}[system]
			return store.Task{}, fault.New(fault.Conflict, fmt.Sprintf("system %q has no roster yet", name), "", "take one first: twinning roster take "+name).Because("no-roster")
		} else if err != nil {
			return store.Task{}, err
		}
	}
	var t store.Task
	err = s.act(ctx, who, kind, lane, detail, func(tx *store.Store) (err error) {
		if t, err = queue(ctx, tx, kind, kind+" "+lane, who, params); err != nil {
			return err
		}
		return tx.PassOver(ctx, t.ID, l.ID)
	})
	if err != nil {
		return t, err
	}
	s.nudge()
	return t, nil
}

// done counts what was done to a lane's downstream in the days that its guards
// look back, whoever did it.
func (s *Service) done(ctx context.Context, l store.Lane, rules *charter.Charter) (tallies []reconcile.Tally, err error) {
	days := 1
	for _, g := range rules.Guards {
		days = max(days, g.Within)
	}
	today := s.Now().In(rules.Zone)
	since := time.Date(today.Year(), today.Month(), today.Day()-days+1, 0, 0, 0, 0, rules.Zone)
	list, err := s.Store.DoneSince(ctx, l.DownstreamID, since, rules.Zone.String())
	for _, t := range list {
		tallies = append(tallies, reconcile.Tally{Day: t.Day, Verb: t.Verb, Count: t.Count})
	}
	return tallies, err
}

// rememberEvidence adds the weights in force, and whom they joined last.
func (s *Service) rememberEvidence(ctx context.Context, in *laneInput) error {
	l, m := in.lane, &in.Memory
	w, err := s.Store.NewestWeights(ctx, l.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	in.weights = fmt.Sprint(w.Version)
	if err := json.Unmarshal(w.Weights, &m.Weights); err != nil {
		return err
	}
	r, err := s.Store.LatestReconciliation(ctx, l.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	twins, err := s.Store.WeighedTwins(ctx, r.ID)
	for _, t := range twins {
		m.Weighed = append(m.Weighed, pairing.Pair{Person: t.Person, Account: t.Account})
	}
	return err
}

// pass begins a task on a lane: what it was asked for, what it looks at, and how many
// records that are.
func (s *Service) pass(ctx context.Context, w *work.Work) (p laneParams, in laneInput, all int, err error) {
	if err = json.Unmarshal(w.Params, &p); err != nil {
		return p, in, 0, err
	}
	if in, err = s.laneInput(ctx, p.Lane); err != nil {
		return p, in, 0, err
	}
	all = in.People.Len() + in.Accounts.Len()
	return p, in, all, w.Progress(0, all, 0, 0)
}

func (s *Service) reconcile(ctx context.Context, w *work.Work) (err error) {
	computing, cancel := w.Until(ctx)
	defer cancel()
	id := int64(0)
	defer func() {
		if err != nil && w.Halted() && id == 0 {
			w.Say("halted as asked; nothing of it was kept")
			err = work.ErrHalted
		}
	}()
	p, in, all, err := s.pass(computing, w)
	if err != nil {
		return err
	}
	if p.Learn {
		in.Memory.Weights = nil
	}
	out, err := computed(computing, s, in.Input, "reconciling", func(in reconcile.Input) (*reconcile.Output, error) { return reconcile.Run(in), nil })
	if err != nil {
		return err
	}
	version, err := s.keepWeights(computing, in.lane, out, w.By)
	if err != nil {
		return err
	}
	if version != nil {
		in.weights = fmt.Sprint(*version)
	}
	kept := outcome(in, out)
	kept.WeightsVersion = version
	if kept.AsidesEnded, err = s.asidesEnded(computing, in, out); err != nil {
		return err
	}
	kept.Unread = [2][]string{unreadIn(in.People), unreadIn(in.Accounts)}
	if kept.WeightsVersion != nil && p.Learn {
		w.Say("weights %d are learnt from %d twins", *kept.WeightsVersion, out.Balance.People.Twinned)
	}
	if id, err = s.Store.AddReconciliation(computing, w.Task, kept); err != nil {
		return err
	}
	if err := s.Store.LinkTask(ctx, w.ID, 0, id, 0, 0); err != nil {
		return err
	}
	if err := s.accepted(ctx, in); err != nil {
		return err
	}
	if store.Long(max(len(kept.Verdicts), len(kept.All))) {
		if err := s.furnishLater(ctx, w.By, in.lane.Name, furnishing{Reconciliation: id}); err != nil {
			return err
		}
	}
	s.forget(ctx)
	var grave []store.LogLine
	for _, f := range out.Findings {
		if f.Severity == finding.Error {
			grave = append(grave, store.LogLine{Level: "warning", Subject: f.Code, Message: strings.TrimSpace(f.Person + " " + f.Account + ": " + f.Detail)})
		}
	}
	if err := s.Store.LogAll(ctx, w.ID, grave); err != nil {
		return err
	}
	bad := out.Balance.People.Contested + out.Balance.Accounts.Contested
	w.Say("%d twins, %d findings, %d changes", out.Balance.People.Twinned, len(out.Findings), len(out.Changes))
	return w.Progress(all, all, all-bad, bad)
}

// unreadIn are the ids of the records of a roster that could not be read.
func unreadIn(r *record.Roster) (ids []string) {
	r.EachUnread(func(row int, _ record.Rejection) { ids = append(ids, r.ID(row)) })
	return ids
}

// computed has the core work. It looks at no clock and hears nobody: who asks to
// halt is answered at once, and what was begun ends soon, unheard, in a place that
// the next computation waits for.
func computed[T any](ctx context.Context, s *Service, in reconcile.Input, doing string, work func(reconcile.Input) (T, error)) (none T, _ error) {
	type result struct {
		out T
		err error
	}
	select {
	case s.computing <- struct{}{}:
	case <-ctx.Done():
		return none, ctx.Err()
	}
	got := make(chan result, 1)
	go func() {
		defer func() { <-s.computing }()
		defer func() {
			if p := recover(); p != nil && ctx.Err() == nil {
				got <- result{none, fault.Mistake(s.Log, doing, p)}
			}
		}()
		out, err := work(in)
		got <- result{out, err}
	}()
	select {
	case r := <-got:
		return r.out, r.err
	case <-ctx.Done():
		in.Charter.Stop()
		return none, ctx.Err()
	}
}

// keepWeights keeps what was learnt, if anything was.
func (s *Service) keepWeights(ctx context.Context, l store.Lane, out *reconcile.Output, by string) (*int64, error) {
	weights := out.Pairing.Weights
	if weights == nil {
		return nil, nil
	}
	w, err := s.Store.AddWeights(ctx, l.ID, store.Weights{Digest: weights.Version(), Weights: asJSON(weights), LearntFrom: int64(out.Balance.People.Twinned - len(out.Memory.Weighed)), By: by})
	return &w.Version, err
}

// outcome turns a result into what is kept of it.
func outcome(in laneInput, out *reconcile.Output) *store.Outcome {
	o := &store.Outcome{}
	codes, verbs := map[string]int{}, map[string]int{}
	people, accounts := labels(in.People), labels(in.Accounts)
	for _, f := range out.Findings {
		codes[f.Code]++
		o.All = append(o.All, store.Finding{Told: store.Told{ID: f.ID, Code: f.Code, Severity: string(f.Severity), Person: f.Person, Account: f.Account, PersonLabel: people(f.Person), AccountLabel: accounts(f.Account), Detail: f.Detail}})
	}
	for _, c := range out.Changes {
		verbs[c.Verb]++
		o.Drafted = append(o.Drafted, in.kept(c, people, accounts))
	}
	for _, w := range out.Withheld {
		o.Kept = append(o.Kept, store.Withheld{Verb: w.Verb, Person: w.Person, Account: w.Account, Label: cmp.Or(people(w.Person), accounts(w.Account)), Reason: w.Reason})
	}
	o.Memory = &out.Memory
	for _, i := range out.Memory.Intentions {
		o.Intended = append(o.Intended, store.Intention{ID: i.ID, Verb: i.Verb, Person: i.Person, Account: i.Account, Label: cmp.Or(people(i.Person), accounts(i.Account)), Due: i.Due, First: i.First, Told: i.Told, Waits: i.Waits, Reason: i.Reason})
	}
	for _, p := range out.Pairing.Proposals {
		x := store.Proposal{Code: p.Code, Person: in.People.ID(p.Person), Account: in.Accounts.ID(p.Account), Reason: p.Reason, Brief: p.Brief, Probability: p.Probability, Said: json.RawMessage(`[]`)}
		x.PersonLabel, x.AccountLabel = people(x.Person), accounts(x.Account)
		if c, ok := out.Pairing.Candidate(p.Person, p.Account); ok {
			x.Probability, x.Bits, x.Said = c.Probability, c.Bits, asJSON(out.Pairing.Weights.Say(&c.Pattern))
		}
		o.Proposals = append(o.Proposals, x)
	}
	o.Verdicts = verdicts(in, out.Pairing)
	if out.Pairing.Told != nil {
		why(in, out.Pairing.Told, o)
	}
	notes := slices.Concat([]string{}, out.Notes, in.notes)
	for _, n := range in.Charter.Notes {
		notes = append(notes, "charter "+n.String())
	}
	if out.Guards == nil {
		out.Guards = []planning.Reading{}
	}
	o.Reconciliation = store.Reconciliation{
		LaneID: in.lane.ID, At: in.Now, CharterVersion: in.charter.Version, PeopleRoster: in.people.ID, AccountsRoster: in.accounts.ID, Inputs: in.digest,
		Balance: asJSON(balanceView{out.Balance.People, out.Balance.Accounts}), Findings: asJSON(codes), Changes: asJSON(verbs), Withheld: asJSON(planning.CountWithheld(out.Withheld)), Guards: asJSON(out.Guards), Notes: asJSON(notes), Prior: out.Pairing.Prior, PartingsSeen: in.parted,
	}
	return o
}

// kept is a change as it is kept.
func (in *laneInput) kept(c planning.Change, people, accounts func(id string) string) store.Change {
	x := store.Change{ID: c.ID, Wave: in.Charter.Waves[c.Wave].Name, Verb: c.Verb, Person: c.Person, Account: c.Account, Class: in.classes[c.Class].Name, Label: cmp.Or(people(c.Person), accounts(c.Account))}
	if row, there := in.People.Find(c.Person); there && c.Person != "" {
		x.Department = strings.Clone(in.People.Column("department").Cell(row))
	} else if row, there := in.Accounts.Find(c.Account); there && c.Account != "" {
		x.Department = strings.Clone(in.Accounts.Column("department").Cell(row))
	}
	x.Body.V = in.versioned(c)
	return x
}

// versioned fills in what only the store knows of a change's premises.
func (in *laneInput) versioned(c planning.Change) planning.Change {
	premises := slices.Clone(c.Premises)
	for i := range premises {
		p := &premises[i]
		switch p.Kind {
		case planning.Rulings:
			p.Version = in.rulings(planning.CutKey(p.Key))
		case planning.NobodyNew:
			p.Version = fmt.Sprint(in.people.ID)
		case planning.OurSuspend:
			p.Version = in.shutBy[p.Key]
		case planning.WeightsUsed:
			p.Version = in.weights
		}
	}
	c.Premises = premises
	return c
}

func asJSON(v any) json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // our own plain values
	}
	return b
}

func labels(r *record.Roster) func(id string) string {
	return func(id string) string {
		if i, ok := r.Find(id); ok && id != "" {
			return record.Label(r, i)
		}
		return ""
	}
}

// why keeps what explains the verdicts.
func why(in laneInput, told *pairing.Told, o *store.Outcome) {
	for _, c := range told.Compared {
		o.Compared = append(o.Compared, store.Compared{Person: in.People.ID(int(c.Person)), Account: in.Accounts.ID(int(c.Account)), Pattern: c.Pattern.Bytes()})
	}
	for _, c := range told.Carriers {
		side, roster := "accounts", in.Accounts
		if c.Person {
			side, roster = "people", in.People
		}
		o.Carriers = append(o.Carriers, store.Carrier{Key: c.Key, Value: store.KeyValue(c.Value), Side: side, ID: roster.ID(int(c.Row))})
	}
	for word, n := range told.Words {
		o.Words = append(o.Words, store.CommonWord{Word: int64(word), Records: n}) // any number will do
	}
}

func verdicts(in laneInput, p *pairing.Result) []store.Verdict {
	list := make([]store.Verdict, 0, in.People.Len()+in.Accounts.Len())
	for _, row := range in.People.Order() {
		i := int(row)
		v := store.Verdict{Side: "people", ID: in.People.ID(i), State: p.PersonState[i].String(), Label: record.Label(in.People, i), Login: cmp.Or(in.People.Column("employeeNumber").Cell(i), in.People.Column("email").Cell(i)), Note: p.PersonNote[i]}
		if a := p.PersonTwin[i]; a >= 0 {
			v.Basis, v.Twin = p.Basis[i].String(), in.Accounts.ID(int(a))
			v.TwinLabel = record.Label(in.Accounts, int(a))
			if p.Basis[i] == pairing.Keyed {
				v.Note = "agree on " + in.Charter.Keys[p.By[i]].Name + ", which nobody else carries"
			}
			if p.Basis[i] == pairing.Weighed {
				v.Probability = p.Probability[i]
				if c, ok := p.Candidate(i, int(a)); ok {
					v.Note = p.Weights.Sentence(&c.Pattern)
				}
			}
		}
		list = append(list, v)
	}
	for _, row := range in.Accounts.Order() {
		i := int(row)
		v := store.Verdict{Side: "accounts", ID: in.Accounts.ID(i), State: p.AccountState[i].String(), Label: record.Label(in.Accounts, i), Login: in.Accounts.Column("userName").Cell(i), Note: p.AccountNote[i]}
		if q := p.AccountTwin[i]; q >= 0 {
			v.Basis, v.Twin = p.Basis[q].String(), in.People.ID(int(q))
			v.TwinLabel = record.Label(in.People, int(q))
		}
		list = append(list, v)
	}
	return list
}

// Reconciliations lists a lane's, newest first.
func (s *Service) Reconciliations(ctx context.Context, lane string, p store.Page) ([]ReconciliationView, string, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return nil, "", err
	}
	list, next, err := s.Store.Reconciliations(ctx, l.ID, p)
	views := make([]ReconciliationView, len(list))
	for i, r := range list {
		views[i] = reconciliationView(r, lane)
	}
	return views, next, err
}

// latest is the lane's newest result.
func (s *Service) latest(ctx context.Context, lane string) (store.Lane, store.Reconciliation, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return l, store.Reconciliation{}, err
	}
	r, err := s.Store.LatestReconciliation(ctx, l.ID)
	if errors.Is(err, store.ErrNotFound) {
		return l, r, fault.New(fault.Conflict, fmt.Sprintf("lane %q has not been reconciled yet", lane), "", "reconcile it first: twinning reconcile "+lane).Because("not-reconciled")
	}
	return l, r, err
}

// Verdicts lists where the records of one side stand.
func (s *Service) Verdicts(ctx context.Context, lane, side, state string, p store.Page) ([]store.Verdict, string, int, error) {
	_, r, err := s.latest(ctx, lane)
	if err != nil {
		return nil, "", 0, err
	}
	var balance map[string]map[string]int // side -> state, or total
	if err := json.Unmarshal(r.Balance, &balance); err != nil {
		return nil, "", 0, err
	}
	known := balance[side][cmp.Or(state, "total")]
	list, next, total, err := s.Store.Verdicts(ctx, r.ID, side, state, uncounted(p).Within(r.ID))
	return list, next, counted(p, total, known), err
}

// uncounted asks for a list without its length, where that is known beforehand: all but
// what is searched for was counted when it was made.
func uncounted(p store.Page) store.Page {
	p.Count = p.Count && p.Text != ""
	return p
}

// counted is the length of a list: as it was found, or as it is known beforehand.
func counted(p store.Page, found, known int) int {
	if p.Count && p.Text == "" {
		return known
	}
	return found
}

// Withheld lists what the newest reconciliation did not draft, and why.
func (s *Service) Withheld(ctx context.Context, lane, verb string, p store.Page) ([]store.Withheld, string, int, error) {
	_, r, err := s.latest(ctx, lane)
	if err != nil {
		return nil, "", 0, err
	}
	return s.Store.WithheldOf(ctx, r.ID, verb, p.Within(r.ID))
}
