package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"twinning/internal/access"
	"twinning/internal/core/charter"
	"twinning/internal/core/document"
	"twinning/internal/core/reconcile"
	"twinning/internal/explain"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// LaneView is a lane with its newest result and plan.
type LaneView struct {
	Name           string              `json:"name"`
	Title          string              `json:"title,omitempty"`
	Authority      string              `json:"authority"`
	Downstream     string              `json:"downstream"`
	Observing      bool                `json:"observing"`
	CharterVersion int64               `json:"charterVersion"`
	Latest         *ReconciliationView `json:"latest,omitempty"`
	Plan           *PlanView           `json:"plan,omitempty"`
}

// ReconciliationView is one result with its totals.
type ReconciliationView struct {
	store.Reconciliation
	Lane    string `json:"lane"`
	ToDo    bool   `json:"toDo"`
	Stopped bool   `json:"stopped"`
}

// CharterView is one version of a lane's rules.
type CharterView struct {
	Lane    string             `json:"lane"`
	Version int64              `json:"version"`
	Source  string             `json:"source"`
	By      string             `json:"by"`
	At      time.Time          `json:"at"`
	Note    string             `json:"note,omitempty"`
	Notes   []document.Problem `json:"notes"`
}

func (s *Service) lane(ctx context.Context, name string) (store.Lane, error) {
	l, err := s.Store.LaneByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		lanes, broken := s.Store.Lanes(ctx)
		if broken != nil {
			return l, broken
		}
		known := make([]string, len(lanes))
		for i, o := range lanes {
			known[i] = o.Name
		}
		return l, missing("lane", name, known)
	}
	return l, fault.About(err, "lane", name)
}

// missing tells of something that there is not, and what may be meant.
func missing(what, name string, known []string) error {
	if len(known) == 0 {
		return fault.New(fault.NotFound, fmt.Sprintf("there is no %s yet", what), "", "")
	}
	next := "there are " + strings.Join(known, ", ")
	if len(known) > 12 {
		next = fmt.Sprintf("list what there is: twinning %s list", what)
	}
	return fault.New(fault.NotFound, fmt.Sprintf("there is no %s %q%s", what, name, document.Suggest(name, known)), "", next)
}

// Lanes lists all.
func (s *Service) Lanes(ctx context.Context) ([]LaneView, error) {
	list, err := s.Store.Lanes(ctx)
	if err != nil {
		return nil, err
	}
	views := make([]LaneView, 0, len(list))
	for _, l := range list {
		v, err := s.laneView(ctx, l)
		if err != nil {
			return nil, err
		}
		views = append(views, v)
	}
	return views, nil
}

// Lane finds one.
func (s *Service) Lane(ctx context.Context, name string) (LaneView, error) {
	l, err := s.lane(ctx, name)
	if err != nil {
		return LaneView{}, err
	}
	return s.laneView(ctx, l)
}

func (s *Service) laneView(ctx context.Context, l store.Lane) (LaneView, error) {
	v := LaneView{Name: l.Name, Title: l.Title, Authority: l.Authority, Downstream: l.Downstream, Observing: l.Observing}
	c, err := s.Store.Charter(ctx, l.ID, 0)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return v, err
	}
	v.CharterVersion = c.Version
	r, err := s.Store.LatestReconciliation(ctx, l.ID)
	if err == nil {
		view := reconciliationView(r, l.Name)
		v.Latest = &view
	} else if !errors.Is(err, store.ErrNotFound) {
		return v, err
	}
	p, err := s.Store.LatestPlan(ctx, l.ID)
	if err == nil {
		view, err := s.planView(ctx, p)
		if err != nil {
			return v, err
		}
		v.Plan = &view
	} else if !errors.Is(err, store.ErrNotFound) {
		return v, err
	}
	return v, nil
}

func reconciliationView(r store.Reconciliation, lane string) ReconciliationView {
	v := ReconciliationView{Reconciliation: r, Lane: lane}
	var b balanceView
	var changes, withheld map[string]int
	var guards []struct{ Tripped bool }
	_ = json.Unmarshal(r.Balance, &b)
	_ = json.Unmarshal(r.Changes, &changes)
	_ = json.Unmarshal(r.Withheld, &withheld)
	_ = json.Unmarshal(r.Guards, &guards)
	v.ToDo = len(changes) > 0 || len(withheld) > 0 || b.People.Contested > 0 || b.Accounts.Contested > 0
	for _, g := range guards {
		v.Stopped = v.Stopped || g.Tripped
	}
	return v
}

// balanceView is the balance under the contract's names.
type balanceView struct {
	People   reconcile.Side `json:"people"`
	Accounts reconcile.Side `json:"accounts"`
}

// SetObserving lets a lane only observe, or lets it write.
func (s *Service) SetObserving(ctx context.Context, who access.Caller, name string, on bool) (LaneView, error) {
	err := s.act(ctx, who, map[bool]string{true: "lane.observe", false: "lane.write"}[on], name, nil, func(tx *store.Store) error {
		return fault.About(tx.SetObserving(ctx, name, on), "lane", name)
	})
	if err != nil {
		return LaneView{}, err
	}
	return s.Lane(ctx, name)
}

// Bonds lists who is bonded in a lane, and by what.
func (s *Service) Bonds(ctx context.Context, lane string) ([]store.Bond, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return nil, err
	}
	return s.Store.Bonds(ctx, l.ID)
}

// RemoveLane removes a lane with its history, unless a plan of it may still write.
func (s *Service) RemoveLane(ctx context.Context, who access.Caller, name string) error {
	l, err := s.lane(ctx, name)
	if err != nil {
		return err
	}
	err = s.act(ctx, who, "lane.remove", name, nil, func(tx *store.Store) error {
		open, err := tx.RemoveLane(ctx, l.ID)
		if err == nil && len(open) > 0 {
			err = fault.New(fault.Conflict, fmt.Sprintf("lane %q is at work", name), strings.Join(open, "; "), "halt what runs, and void its plans").Because("busy")
		}
		return fault.About(err, "lane", name)
	})
	if err == nil {
		s.forget(ctx)
	}
	return err
}

// forget drops results that nobody asks for any more; what can't be dropped now, the next
// reconciliation drops.
func (s *Service) forget(ctx context.Context) {
	if err := s.Store.Forget(ctx); err != nil {
		s.Log.Warn("old results could not be dropped", "error", err.Error())
	}
}

// Charter finds a version of a lane's rules; 0 is the newest.
func (s *Service) Charter(ctx context.Context, lane string, version int64) (CharterView, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return CharterView{}, err
	}
	c, err := s.Store.Charter(ctx, l.ID, version)
	if err != nil {
		return CharterView{}, fault.About(err, "charter of lane", lane)
	}
	parsed, err := s.parse(ctx, c.Source)
	if err != nil {
		return CharterView{}, err
	}
	return charterView(lane, c, parsed.Notes), nil
}

func charterView(lane string, c store.Charter, notes []document.Problem) CharterView {
	if notes == nil {
		notes = []document.Problem{}
	}
	return CharterView{Lane: lane, Version: c.Version, Source: c.Source, By: c.By, At: c.At, Note: c.Note, Notes: notes}
}

// parse checks a charter against the shapes of the systems it names.
func (s *Service) parse(ctx context.Context, source string) (*charter.Charter, error) {
	var known charter.Vocabulary
	if first, err := charter.Parse([]byte(source), charter.Vocabulary{}); err == nil {
		return first, nil
	}
	// it may use attributes that only its systems' shapes declare
	from, in := charter.Systems([]byte(source))
	for name, into := range map[string]*[]string{from: &known.Person, in: &known.Account} {
		x, err := s.system(ctx, name)
		if err != nil {
			continue
		}
		if shape, err := s.reach.NewestShape(ctx, x); err == nil {
			*into = shape.Custom()
		}
	}
	c, err := charter.Parse([]byte(source), known)
	if err != nil {
		return nil, fault.Document("the charter is not in order", "source", err)
	}
	return c, nil
}

// Vocabulary is what a charter of a lane can speak of.
type Vocabulary struct {
	Person    []string   `json:"person"`
	Account   []string   `json:"account"`
	Functions []Spoken   `json:"functions"`
	Keys      []KeyWords `json:"keys"`
}

// Spoken is a function of expressions.
type Spoken struct {
	Name      string `json:"name"`
	Arguments string `json:"arguments"`
	What      string `json:"what"`
	Example   string `json:"example"`
}

// KeyWords is a key of a charter, with the words that it may have.
type KeyWords struct {
	Path  string   `json:"path"`
	What  string   `json:"what"`
	Words []string `json:"words"`
}

// Vocabulary tells what a charter of the lane can speak of: the attributes that the shapes of
// its systems read, functions and keys.
func (s *Service) Vocabulary(ctx context.Context, lane string) (v Vocabulary, err error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return v, err
	}
	for id, into := range map[int64]*[]string{l.AuthorityID: &v.Person, l.DownstreamID: &v.Account} {
		x, err := s.Store.SystemByID(ctx, id)
		if err != nil {
			return v, err
		}
		*into = []string{}
		if shape, err := s.reach.NewestShape(ctx, x); err == nil { // one without a roster has none yet
			*into = append(*into, shape.Canonical()...)
		}
	}
	for _, f := range charter.Functions() {
		v.Functions = append(v.Functions, Spoken{f.Name, f.Arguments, f.What, f.Example})
	}
	for _, k := range charter.Keys {
		v.Keys = append(v.Keys, KeyWords{k.Path, k.What, append([]string{}, k.Words...)})
	}
	return v, nil
}

// CheckCharter checks one without keeping it.
func (s *Service) CheckCharter(ctx context.Context, source string) (*charter.Charter, error) {
	c, err := s.parse(ctx, source)
	if err == nil {
		s.noteUnread(ctx, c)
	}
	return c, err
}

// noteUnread notes what a charter gives accounts and their shape does not read. A system that
// is not there yet, or has no shape, is told of elsewhere.
func (s *Service) noteUnread(ctx context.Context, c *charter.Charter) {
	x, err := s.system(ctx, c.In)
	if err != nil {
		return
	}
	shape, err := s.reach.NewestShape(ctx, x)
	if err != nil {
		return
	}
	_, emails := shape.Attributes["emails"] // of which the first is the primary one
	for _, g := range c.Given() {
		if _, read := shape.Attributes[g.Attribute]; !read && !(g.Attribute == "email" && emails) {
			message := fmt.Sprintf("the shape of %s does not read %s: what accounts hold is not known, so ", x.Name, g.Attribute)
			message += map[bool]string{true: "it is given to new ones alone", false: "nothing of it is changed"}[g.New]
			c.Notes = append(c.Notes, document.Problem{Line: g.Line, Column: 1, Path: g.Path, Message: message})
		}
	}
}

// TryCharter computes a charter, the lane's own or one that is not kept yet, for one person.
func (s *Service) TryCharter(ctx context.Context, lane, source, person, account string) (*explain.TryOut, error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return nil, err
	}
	if source == "" {
		kept, err := s.Store.Charter(ctx, l.ID, 0)
		if err != nil {
			return nil, fault.About(err, "charter of lane", lane)
		}
		source = kept.Source
	}
	rules, err := s.parse(ctx, source)
	if err != nil {
		return nil, err
	}
	return s.explainer.Try(ctx, l, r, rules, person, account, s.Now())
}

// PutCharter gives a lane a new version of its rules; the first makes the
// lane. after is the version it was made from, -1 for whatever it is; note says why.
func (s *Service) PutCharter(ctx context.Context, who access.Caller, lane, source string, after int64, note string) (CharterView, error) {
	c, err := s.parse(ctx, source)
	if err != nil {
		return CharterView{}, err
	}
	if c.Lane != lane {
		return CharterView{}, &fault.Error{Kind: fault.Invalid, Title: "the charter is another lane's", Detail: "it says lane: " + c.Lane + ", and was put to " + lane, Field: "source"}
	}
	if !validName(lane) {
		return CharterView{}, &fault.Error{Kind: fault.Invalid, Title: "a lane's name has small letters, digits and hyphens, at most 60", Field: "source"}
	}
	authority, err := s.system(ctx, c.From)
	if err != nil {
		return CharterView{}, fault.About(err, "system", c.From)
	}
	downstream, err := s.system(ctx, c.In)
	if err != nil {
		return CharterView{}, fault.About(err, "system", c.In)
	}
	if authority.ID == downstream.ID {
		return CharterView{}, &fault.Error{Kind: fault.Invalid, Title: "a lane needs two systems", Detail: "people and accounts are both " + c.From, Field: "source"}
	}
	var kept store.Charter
	err = s.Store.InTx(ctx, func(tx *store.Store) error {
		l, err := tx.LaneByName(ctx, lane)
		if errors.Is(err, store.ErrNotFound) {
			if err := tx.AddLane(ctx, lane, authority.ID, downstream.ID); err != nil {
				return err
			}
			l, err = tx.LaneByName(ctx, lane)
		}
		if err != nil {
			return err
		}
		if l.AuthorityID != authority.ID || l.DownstreamID != downstream.ID {
			return &fault.Error{Cause: "identity-changed", Kind: fault.Conflict, Title: fmt.Sprintf("the systems of lane %s never change", lane), Field: "source",
				Detail: fmt.Sprintf("it reconciles %s with %s, and the charter says %s and %s: bonds and rulings would mean other records", l.Authority, l.Downstream, c.From, c.In),
				Next:   fmt.Sprintf("give the charter a lane of its own; twinning lane bonds %s --sheet FILE writes what is known here as a sheet of rulings for it", lane)}
		}
		if err := tx.HoldLane(ctx, l.ID); err != nil {
			return err
		}
		newest, err := tx.Charter(ctx, l.ID, 0)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if newest.Source == source { // as when an answer was lost, and it is put again
			kept = newest
			return nil
		}
		if after >= 0 && after != newest.Version {
			return store.ErrChanged
		}
		if kept, err = tx.AddCharter(ctx, l.ID, newest.Version, source, who.Name, note); err != nil {
			return err
		}
		if err := tx.SetCharacter(ctx, l.ID, c.Zone.String(), c.Title); err != nil {
			return err
		}
		return tx.Audit(ctx, who.Name, "charter.put", lane, nil)
	})
	if errors.Is(err, store.ErrTaken) {
		err = store.ErrChanged
	}
	if err != nil {
		return CharterView{}, fault.About(err, "charter of lane", lane)
	}
	s.noteUnread(ctx, c)
	return charterView(lane, kept, c.Notes), nil
}
