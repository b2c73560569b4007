package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/access"
	"twinning/internal/core/calendar"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// Asked is what somebody asks for of some accounts, beside what the charter wants of them.
type Asked struct {
	Origin  store.Origin      `json:"origin"`
	Intents []planning.Intent `json:"intents"`
	Places  []string          `json:"places,omitempty"` // of each intent: where it was asked for
	// Beforehand is what can't be asked for at all, and why.
	Beforehand []store.Refusal `json:"beforehand,omitempty"`
}

// Action is one verb that somebody asks for of many accounts.
type Action struct {
	Verb      string
	Accounts  []string
	People    []string
	Findings  *FindingSelection // whose accounts; nil: none
	Groups    []string          // of enrol and withdraw
	Container string            // of place
	Reason    string
	Until     string // day until which the charter leaves it so; "": thirty days
}

// keptFor is for how many days the charter leaves as it is what a human has asked for, where
// they do not say.
const keptFor = 30

// StartAction drafts an action on a selection: as a plan, or, where there are so many records
// that nobody would wait for it, by a task.
func (s *Service) StartAction(ctx context.Context, who access.Caller, lane string, a Action) (PlanView, *store.Task, error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return PlanView{}, nil, err
	}
	asked := Asked{Origin: store.Origin{Kind: store.OfAction, Verb: a.Verb, Reason: strings.TrimSpace(a.Reason)}}
	if asked.Origin.Reason == "" {
		return PlanView{}, nil, &fault.Error{Kind: fault.Invalid, Title: "why is it asked for?", Detail: "the reason stands beside each change, for whoever seals it and whoever asks in a year", Field: "reason"}
	}
	values, err := a.values()
	if err != nil {
		return PlanView{}, nil, err
	}
	if asked.Origin.Until, err = s.until(l, a.Until, planning.Returns[a.Verb]); err != nil {
		return PlanView{}, nil, err
	}
	accounts, people := slices.Clone(a.Accounts), slices.Clone(a.People)
	if a.Findings != nil {
		more, err := s.foundAccounts(ctx, lane, r, *a.Findings)
		if err != nil {
			return PlanView{}, nil, err
		}
		accounts = append(accounts, more...)
	}
	met := map[[2]string]bool{}
	add := func(account, person string) {
		if met[[2]string{account, person}] {
			return
		}
		met[[2]string{account, person}] = true
		asked.Intents = append(asked.Intents, planning.Intent{Account: account, Person: person, Verb: a.Verb, Values: values, Reason: asked.Origin.Reason + " (asked by " + who.Name + ")", Until: asked.Origin.Until})
	}
	for _, id := range accounts {
		add(id, "")
	}
	for _, id := range people {
		add("", id)
	}
	if len(asked.Intents) == 0 {
		return PlanView{}, nil, fault.New(fault.Invalid, "nobody is selected", "", "name accounts, people, or findings that are about accounts")
	}
	return s.startAsked(ctx, who, l, r, asked)
}

func (a Action) values() ([]planning.Wanted, error) {
	v, known := planning.Actions[a.Verb]
	if !known {
		return nil, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("%q is no action", a.Verb), Detail: "expected one of suspend, reinstate, hide, unhide, enrol, withdraw, place, reissue, invite, delete", Field: "verb"}
	}
	groups := slices.DeleteFunc(slices.Clone(a.Groups), func(g string) bool { return strings.TrimSpace(g) == "" })
	takesGroups, places := a.Verb == planning.Enrol || a.Verb == planning.Withdraw, a.Verb == planning.Place
	switch {
	case takesGroups && len(groups) == 0:
		return nil, &fault.Error{Kind: fault.Invalid, Title: a.Verb + " needs the groups", Field: "groups"}
	case !takesGroups && len(groups) > 0:
		return nil, &fault.Error{Kind: fault.Invalid, Title: a.Verb + " takes no groups", Field: "groups"}
	case places && strings.TrimSpace(a.Container) == "":
		return nil, &fault.Error{Kind: fault.Invalid, Title: "place needs the container", Field: "container"}
	case !places && a.Container != "":
		return nil, &fault.Error{Kind: fault.Invalid, Title: a.Verb + " takes no container", Field: "container"}
	}
	switch a.Verb {
	case planning.Enrol:
		v.Adds = groups
	case planning.Withdraw:
		v.Takes = groups
	case planning.Place:
		v.New = strings.TrimSpace(a.Container)
	}
	return []planning.Wanted{v}, nil
}

// until is the day until which something is kept: as it was said, or in thirty days where
// nobody said it.
func (s *Service) until(l store.Lane, said string, keeps bool) (string, error) {
	today := calendar.Day(s.Now(), l.Location())
	switch {
	case said == "" && keeps:
		return calendar.Add(today, keptFor), nil
	case said == "":
		return "", nil
	case !calendar.IsDay(said) || said < today:
		return "", &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("%q is no day to come", said), Detail: "write it as YYYY-MM-DD", Field: "until"}
	}
	return said, nil
}

// foundAccounts are the accounts that findings are about, but for accepted ones.
func (s *Service) foundAccounts(ctx context.Context, lane string, r store.Reconciliation, f FindingSelection) (accounts []string, err error) {
	meant, err := f.of(ctx, s.Store, lane, r.ID)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.FoundByIDs(ctx, r.ID, meant)
	for _, x := range list {
		if x.Account != "" && !x.Accepted && !slices.Contains(accounts, x.Account) {
			accounts = append(accounts, x.Account)
		}
	}
	return accounts, err
}

// startAsked drafts what was asked for, or has a task do it where the lane is large.
func (s *Service) startAsked(ctx context.Context, who access.Caller, l store.Lane, r store.Reconciliation, asked Asked) (v PlanView, t *store.Task, err error) {
	wanted := drafting{Reconciliation: r.ID, Asked: &asked}
	n := 0
	for _, id := range []int64{r.PeopleRoster, r.AccountsRoster} {
		roster, err := s.Store.Roster(ctx, id)
		if err != nil {
			return v, nil, err
		}
		n += roster.Records
	}
	if n > s.MostCompared {
		t, err = s.queueDraft(ctx, who, l, wanted)
		return v, t, err
	}
	v, err = s.draftNow(ctx, who, l, r, wanted)
	return v, nil, err
}

// draftAsked drafts what was asked for, and tells what of it can't be.
func (s *Service) draftAsked(ctx context.Context, l store.Lane, r store.Reconciliation, wanted *Asked) (chosen []store.Change, refused []store.Refusal, err error) {
	attributes := []string{"userName", "email", "displayName"}
	for _, i := range wanted.Intents {
		if a, is := planning.Actions[i.Verb]; is && planning.Delivered[i.Verb] == "" {
			attributes = append(attributes, a.Attribute)
		}
		for _, v := range i.Values {
			attributes = append(attributes, v.Attribute)
		}
	}
	slices.Sort(attributes)
	in, err := s.laneInputWith(ctx, l.ID, slices.Compact(attributes), nil)
	if err != nil {
		return nil, nil, err
	}
	if in.people.ID != r.PeopleRoster || in.accounts.ID != r.AccountsRoster || in.charter.Version != r.CharterVersion {
		return nil, nil, fault.New(fault.Conflict, fmt.Sprintf("lane %q has newer rosters or another charter than its newest result", l.Name), "what is asked for is drafted of what was reconciled", "reconcile first: twinning reconcile "+l.Name).Because("premises-fell")
	}
	in.Tell = false
	type result struct {
		out     *reconcile.Output
		answers []reconcile.Answer
	}
	got, err := computed(ctx, s, in.Input, "drafting what was asked for", func(in reconcile.Input) (result, error) {
		out, answers := reconcile.Asked(in, wanted.Intents)
		return result{out, answers}, nil
	})
	if err != nil {
		return nil, nil, err
	}
	people, accounts := labels(in.People), labels(in.Accounts)
	for i, c := range got.out.Changes {
		x := in.kept(c, people, accounts)
		x.Number = i
		chosen = append(chosen, x)
	}
	refused = slices.Clone(wanted.Beforehand)
	already := 0
	for _, a := range got.answers {
		switch a.Outcome {
		case reconcile.Already:
			already++
		case reconcile.Refused:
			i := wanted.Intents[a.Intent]
			x := store.Refusal{Person: i.Person, Account: i.Account, Label: cmp.Or(accounts(i.Account), people(i.Person)), Attribute: a.Attribute, Reason: a.Reason}
			if a.Intent < len(wanted.Places) {
				x.Place = wanted.Places[a.Intent]
			}
			refused = append(refused, x)
		}
	}
	if len(chosen) == 0 {
		return nil, nil, nothingDrafted(l, already, refused)
	}
	return chosen, refused, nil
}

// refusalsTold is how many refusals an error tells.
const refusalsTold = 20

func nothingDrafted(l store.Lane, already int, refused []store.Refusal) error {
	e := fault.New(fault.Conflict, "nothing of what was asked for is to be done", "", "see how the accounts stand: twinning lane show "+l.Name).Because("nothing-to-do")
	var told []string
	if already > 0 {
		told = append(told, fmt.Sprintf("%d are so already", already))
	}
	for i, r := range refused {
		if i == refusalsTold {
			told = append(told, fmt.Sprintf("and %d more", len(refused)-refusalsTold))
			break
		}
		told = append(told, strings.TrimSpace(r.Place+" "+cmp.Or(r.Account, r.Person))+": "+r.Reason)
	}
	e.Detail = strings.Join(told, "; ")
	return e
}

// Refusals lists what was asked for and is not in a plan.
func (s *Service) Refusals(ctx context.Context, plan int64, p store.Page) ([]store.Refusal, string, int, error) {
	if _, err := s.Store.Plan(ctx, plan); err != nil {
		return nil, "", 0, fault.About(err, "plan", fmt.Sprint(plan))
	}
	return s.Store.Refusals(ctx, plan, p)
}
