package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"twinning/internal/access"
	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/finding"
	"twinning/internal/core/pairing"
	"twinning/internal/core/parallel"
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

// laneInput is everything that one reconciliation looks at.
type laneInput struct {
	reconcile.Input
	lane     store.Lane
	charter  store.Charter
	people   store.Roster
	accounts store.Roster
	digest   []byte
	parted   int64 // the newest parting that it knows
	weights  string
	notes    []string
	rulings  func(person, account string) string // ids of those that name either
	shutBy   map[string]string                   // account -> the receipt that suspended it
	// elsewhereRosters are those of other lanes, and of systems that share names
	elsewhereRosters []int64
}

func (s *Service) laneInput(ctx context.Context, laneID int64, also ...*charter.Charter) (in laneInput, err error) {
	if in.lane, err = s.Store.LaneByID(ctx, laneID); err != nil {
		return in, err
	}
	if in.charter, err = s.Store.Charter(ctx, laneID, 0); err != nil {
		return in, fault.About(err, "charter of lane", in.lane.Name)
	}
	if in.Charter, err = s.parse(ctx, in.charter.Source); err != nil {
		return in, err
	}
	needPeople, needAccounts := in.Charter.Needs()
	for _, c := range also { // they look at the same rosters
		people, accounts := c.Needs()
		needPeople, needAccounts = append(needPeople, people...), append(needAccounts, accounts...)
	}
	slices.Sort(needPeople)
	slices.Sort(needAccounts)
	needPeople, needAccounts = slices.Compact(needPeople), slices.Compact(needAccounts)
	var peopleShape, accountsShape record.Shape
	var noPeople, noAccounts error
	var both parallel.Group
	both.Go(func() {
		in.people, in.People, peopleShape, noPeople = s.newest(ctx, in.lane.AuthorityID, needPeople, in.Charter.Zone)
	})
	both.Go(func() {
		in.accounts, in.Accounts, accountsShape, noAccounts = s.newest(ctx, in.lane.DownstreamID, needAccounts, in.Charter.Zone)
	})
	both.Wait()
	if err = cmp.Or(noPeople, noAccounts); err != nil {
		return in, err
	}
	if err := s.remembered(ctx, &in); err != nil {
		return in, err
	}
	if err := s.elsewhere(ctx, &in, also); err != nil {
		return in, err
	}
	if err := s.sharing(ctx, &in); err != nil {
		return in, err
	}
	if err := s.open(ctx, &in); err != nil {
		return in, err
	}
	if err := s.resting(ctx, &in); err != nil {
		return in, err
	}
	in.Now, in.Cores, in.Mark, in.Deferred, in.Premises, in.Tell = s.Now(), runtime.NumCPU(), accountsShape.Mark, accountsShape.Upload != nil, true, true
	if err := s.ages(ctx, &in); err != nil {
		return in, err
	}
	whole, err := s.Store.NewestWhole(ctx, in.lane.AuthorityID)
	if err != nil {
		return in, err
	}
	in.Reading = fmt.Sprint(whole.ID)
	// everything that decides the result, but for the clock and the counts
	decisive, err := json.Marshal([]any{in.charter.Source, peopleShape, accountsShape, in.people.ID, in.accounts.ID, in.Memory.Bonds, in.Memory.Same, in.Memory.Different, in.Memory.LeftPeople, in.Memory.LeftAccounts, in.Memory.Claims, in.Memory.Parted, in.Memory.Weights, in.Memory.Open, in.Memory.Freed, in.elsewhereRosters})
	sum := sha256.Sum256(decisive)
	in.digest = sum[:]
	return in, err
}

// ages tells how old the rosters are, and until when the systems' secrets are good.
func (s *Service) ages(ctx context.Context, in *laneInput) error {
	in.Taken = map[string]time.Time{"people": in.people.Started, "accounts": in.accounts.Started}
	in.Secrets = map[string]string{}
	for _, id := range []int64{in.lane.AuthorityID, in.lane.DownstreamID} {
		x, err := s.Store.SystemByID(ctx, id)
		if err != nil {
			return err
		}
		if x.SecretUntil != "" {
			in.Secrets[x.Name] = x.SecretUntil
		}
	}
	return nil
}

// resting remembers the names that accounts gave up, where the charter lets them rest.
func (s *Service) resting(ctx context.Context, in *laneInput) error {
	if in.Charter.Emails == nil || in.Charter.Emails.Rest == 0 {
		return nil
	}
	x, err := s.Store.SystemByID(ctx, in.lane.DownstreamID)
	if err != nil {
		return err
	}
	days := in.Charter.Emails.Rest
	if x.KeepDays > 0 && x.KeepDays < days {
		in.notes = append(in.notes, fmt.Sprintf("names rest for %d days, and rosters of %s are kept for %d: of what was given up before, nobody knows; keep its rosters for longer: twinning system put %s --keep-days %d", days, x.Name, x.KeepDays, x.Name, days))
	}
	in.Memory.Freed, err = s.intake.Former(ctx, x, in.accounts, s.Now().AddDate(0, 0, -days-1), in.Charter.Zone)
	return err
}

// open collects what was sent for a lane and is not known to have come about.
func (s *Service) open(ctx context.Context, in *laneInput) error {
	list, err := s.Store.Opened(ctx, in.lane.ID)
	in.Memory.Open = map[string]reconcile.Open{}
	for _, o := range list {
		x := reconcile.Open{Waits: o.Outcome == "waiting", Values: map[string]string{}}
		day := calendar.Day(o.Intended, in.Charter.Zone)
		if x.Waits {
			x.Why = fmt.Sprintf("run %d asked for it on %s, and no roster shows it yet; if it was lost: twinning run settle %d %d not-done", o.RunID, day, o.RunID, o.Number)
		} else {
			x.Why = fmt.Sprintf("run %d sent it on %s without an answer; look whether it is done, and say so: twinning run settle %d %d done|not-done", o.RunID, day, o.RunID, o.Number)
		}
		for _, e := range o.Body.V.Edits {
			x.Values[e.Attribute] = e.New
		}
		in.Memory.Open[o.Change] = x
	}
	return err
}

func (s *Service) newest(ctx context.Context, system int64, wanted []string, zone *time.Location) (r store.Roster, roster *record.Roster, shape record.Shape, err error) {
	x, err := s.Store.SystemByID(ctx, system)
	if err != nil {
		return r, nil, shape, err
	}
	if r, err = s.Store.NewestRoster(ctx, system); err != nil {
		return r, nil, shape, fault.About(err, "whole roster of system", x.Name)
	}
	if origin, err := s.reach.Origin(x); err != nil {
		return r, nil, shape, err
	} else if r.Origin != "" && r.Origin != origin {
		return r, nil, shape, fault.New(fault.Conflict, fmt.Sprintf("system %q has moved since its newest roster was read", x.Name), fmt.Sprintf("from %s to %s: what is known of it waits for a whole reading there", r.Origin, origin), "take a roster: twinning roster take "+x.Name+" --new-scope").Because("system-moved")
	}
	roster, shape, err = s.intake.Load(ctx, x, r, wanted, zone)
	return r, roster, shape, err
}

// remembered puts a lane's memory together from the rows in which it stands.
func (s *Service) remembered(ctx context.Context, in *laneInput) (err error) {
	l := in.lane
	if in.Memory, in.parted, err = s.Store.Remembered(ctx, l.ID); err != nil {
		return err
	}
	m := &in.Memory
	m.LeftPeople, m.LeftAccounts, m.Accepted = map[string]reconcile.Leave{}, map[string]reconcile.Leave{}, map[string]string{}
	bonds, err := s.Store.Bonds(ctx, l.ID)
	if err != nil {
		return err
	}
	for _, b := range bonds {
		m.Bonds = append(m.Bonds, pairing.Bond{Person: b.Person, Account: b.Account, Basis: b.Basis})
	}
	rulings, err := s.Store.Rulings(ctx, l.ID)
	if err != nil {
		return err
	}
	in.rulings = store.RulingsBy(rulings)
	for _, r := range rulings {
		pair := pairing.Pair{Person: r.Person, Account: r.Account}
		leave := reconcile.Leave{Reason: r.Reason}
		if r.Until != nil {
			leave.Until = *r.Until
		}
		switch {
		case r.Kind == "same":
			m.Same = append(m.Same, pair)
		case r.Kind == "different":
			m.Different = append(m.Different, pair)
		case r.Person != "":
			m.LeftPeople[r.Person] = leave
		default:
			m.LeftAccounts[r.Account] = leave
		}
	}
	accepted, err := s.Store.Acceptances(ctx, l.ID)
	if err != nil {
		return err
	}
	for _, a := range accepted {
		m.Accepted[a.Finding] = ""
		if a.Until != nil {
			m.Accepted[a.Finding] = *a.Until
		}
	}
	if m.Intentions, err = s.Store.Intended(ctx, l.ID); err != nil {
		return err
	}
	if m.TakenBack, err = s.Store.TakenBack(ctx, l.ID); err != nil {
		return err
	}
	if m.Claims, err = s.Store.Claims(ctx, l.ID, l.DownstreamID); err != nil {
		return err
	}
	if in.shutBy, err = s.Store.SuspendedBy(ctx, l.ID); err != nil {
		return err
	}
	if m.Done, err = s.done(ctx, l, in.Charter); err != nil {
		return err
	}
	return s.rememberEvidence(ctx, in)
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
	if kept.WeightsVersion != nil && p.Learn {
		w.Say("weights %d are learnt from %d twins", *kept.WeightsVersion, out.Balance.People.Twinned)
	}
	if id, err = s.Store.AddReconciliation(computing, w.Task, kept); err != nil {
		return err
	}
	if err := s.Store.LinkTask(ctx, w.ID, 0, id, 0, 0); err != nil {
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
		o.All = append(o.All, store.Finding{ID: f.ID, Code: f.Code, Severity: string(f.Severity), Person: f.Person, Account: f.Account, PersonLabel: people(f.Person), AccountLabel: accounts(f.Account), Detail: f.Detail})
	}
	for _, c := range out.Changes {
		verbs[c.Verb]++
		x := store.Change{ID: c.ID, Wave: in.Charter.Waves[c.Wave].Name, Verb: c.Verb, Person: c.Person, Account: c.Account, Label: cmp.Or(people(c.Person), accounts(c.Account))}
		x.Body.V = in.versioned(c)
		o.Drafted = append(o.Drafted, x)
	}
	for _, w := range out.Withheld {
		o.Kept = append(o.Kept, store.Withheld{Verb: w.Verb, Person: w.Person, Account: w.Account, Label: cmp.Or(people(w.Person), accounts(w.Account)), Reason: w.Reason})
	}
	o.Memory = &out.Memory
	for _, i := range out.Memory.Intentions {
		o.Intended = append(o.Intended, store.Intention{ID: i.ID, Verb: i.Verb, Person: i.Person, Account: i.Account, Label: cmp.Or(people(i.Person), accounts(i.Account)), Due: i.Due, First: i.First, Waits: i.Waits, Reason: i.Reason})
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

// versioned fills in what only the store knows of a change's premises.
func (in *laneInput) versioned(c planning.Change) planning.Change {
	premises := slices.Clone(c.Premises)
	for i := range premises {
		p := &premises[i]
		switch p.Kind {
		case planning.Rulings:
			p.Version = in.rulings(c.Person, c.Account)
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

// Findings lists those of the newest result, with counts by code.
func (s *Service) Findings(ctx context.Context, lane string, which store.FindingFilter, p store.Page) (list []store.Finding, next string, total int, counts map[string]int, err error) {
	_, r, err := s.latest(ctx, lane)
	if err != nil {
		return nil, "", 0, nil, err
	}
	if err := json.Unmarshal(r.Findings, &counts); err != nil {
		return nil, "", 0, nil, err
	}
	known := 0
	for c, n := range counts {
		told, _ := finding.Lookup(c)
		if (which.Code == "" || c == which.Code) && (which.Severity == "" || string(told.Severity) == which.Severity) {
			known += n
		}
	}
	if !which.Known() {
		list, next, total, err = s.Store.Findings(ctx, r.ID, which, p.Within(r.ID))
		return list, next, total, counts, err
	}
	list, next, total, err = s.Store.Findings(ctx, r.ID, which, uncounted(p).Within(r.ID))
	return list, next, counted(p, total, known), counts, err
}
