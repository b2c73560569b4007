package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"twinning/internal/core/calendar"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// RosterComparison is who came, went and changed from one roster to another.
type RosterComparison struct {
	Older      store.Roster        `json:"older"`
	Newer      store.Roster        `json:"newer"`
	Came       int                 `json:"came"`
	Went       int                 `json:"went"`
	Changed    int                 `json:"changed"`
	Attributes []record.ValueCount `json:"attributes"`
	Items      []RecordChange      `json:"items"`
	Next       string              `json:"cursor,omitempty"`
}

// RecordChange is one record that differs.
type RecordChange struct {
	ID         string            `json:"id"`
	Label      string            `json:"label,omitempty"`
	Kind       string            `json:"kind"` // came, went, changed
	Attributes []AttributeChange `json:"attributes"`
}

// AttributeChange is one attribute of it, old beside new.
type AttributeChange struct {
	Attribute string   `json:"attribute"`
	Old       []string `json:"old"`
	New       []string `json:"new"`
}

// Comparing says what of a comparison to show.
type Comparing struct {
	With      int64  // the other roster; 0: the one before
	Kind      string // came, went, changed; "" all
	Attribute string // changed in this one
	Page      store.Page
}

// CompareRosters compares a roster with an older one of its system.
func (s *Service) CompareRosters(ctx context.Context, id int64, how Comparing) (v RosterComparison, err error) {
	if v.Newer, err = s.takenRoster(ctx, id); err != nil {
		return v, err
	}
	if how.With == 0 {
		v.Older, err = s.Store.Before(ctx, v.Newer)
		if errors.Is(err, store.ErrNotFound) {
			return v, fault.New(fault.NotFound, fmt.Sprintf("roster %d is the first of %s", id, v.Newer.System), "", "there is nothing to compare it with yet")
		}
	} else {
		v.Older, err = s.takenRoster(ctx, how.With)
	}
	if err != nil {
		return v, err
	}
	if v.Older.SystemID != v.Newer.SystemID {
		return v, fault.New(fault.Invalid, "the rosters are of two systems", fmt.Sprintf("%d is of %s, %d of %s", v.Older.ID, v.Older.System, v.Newer.ID, v.Newer.System), "a lane compares two systems: twinning lane list")
	}
	if v.Older.ID > v.Newer.ID {
		v.Older, v.Newer = v.Newer, v.Older
	}
	x, err := s.Store.SystemByID(ctx, v.Newer.SystemID)
	if err != nil {
		return v, err
	}
	shape, err := s.reach.ShapeOf(x, v.Newer.Shape)
	if err != nil {
		return v, err
	}
	counts, err := s.Store.CountDifferences(ctx, x.ID, v.Older.ID, v.Newer.ID)
	if err != nil {
		return v, err
	}
	v.Came, v.Went, v.Changed = counts.Came, counts.Went, counts.Changed
	natives, err := s.Store.ChangedNatives(ctx, x.ID, v.Older.ID, v.Newer.ID)
	if err != nil {
		return v, err
	}
	v.Attributes = []record.ValueCount{}
	for _, native := range slices.Sorted(maps.Keys(natives)) {
		v.Attributes = append(v.Attributes, record.ValueCount{Value: attributeOf(shape, native), Count: natives[native]})
	}
	slices.SortStableFunc(v.Attributes, func(a, b record.ValueCount) int { return b.Count - a.Count })
	var only []string
	if how.Attribute != "" {
		only = []string{how.Attribute}
		if src, ok := shape.Attributes[how.Attribute]; ok {
			only[0] = src.Native
		}
	}
	list, next, err := s.Store.Differences(ctx, x.ID, v.Older.ID, v.Newer.ID, how.Kind, only, how.Page)
	if err != nil {
		return v, err
	}
	v.Items, v.Next = make([]RecordChange, 0, len(list)), next
	for _, d := range list {
		v.Items = append(v.Items, changeOf(shape, d))
	}
	return v, nil
}

func (s *Service) takenRoster(ctx context.Context, id int64) (store.Roster, error) {
	r, err := s.Roster(ctx, id)
	if err == nil && r.State != "taken" {
		err = fault.New(fault.Conflict, fmt.Sprintf("roster %d is %s", id, r.State), "only a roster that was taken has records", "twinning roster list "+r.System)
	}
	return r, err
}

// attributeOf is the canonical attribute that a native one feeds; its own name
// when it feeds none, or only the id.
func attributeOf(shape record.Shape, native string) string {
	for _, name := range shape.Canonical() {
		if name != "id" && shape.Attributes[name].Native == native {
			return name
		}
	}
	return native
}

func changeOf(shape record.Shape, d store.Difference) RecordChange {
	c := RecordChange{ID: d.ID, Kind: "changed", Attributes: []AttributeChange{}}
	switch {
	case d.Old.V == nil:
		c.Kind = "came"
	case d.New.V == nil:
		c.Kind = "went"
	}
	c.Label = labelOf(shape, d.New.V)
	if d.New.V == nil {
		c.Label = labelOf(shape, d.Old.V)
	}
	natives := maps.Clone(d.Old.V)
	if natives == nil {
		natives = map[string][]string{}
	}
	maps.Copy(natives, d.New.V)
	for native := range natives {
		if slices.Equal(d.Old.V[native], d.New.V[native]) {
			continue
		}
		c.Attributes = append(c.Attributes, AttributeChange{attributeOf(shape, native), append([]string{}, d.Old.V[native]...), append([]string{}, d.New.V[native]...)})
	}
	slices.SortFunc(c.Attributes, func(a, b AttributeChange) int { return strings.Compare(a.Attribute, b.Attribute) })
	return c
}

// labelOf is how people know a record.
func labelOf(shape record.Shape, native map[string][]string) string {
	read := func(name string) string {
		cell, err := shape.NewReader([]string{name}).Cell(0, native[shape.Attributes[name].Native])
		if err != nil {
			return ""
		}
		return strings.ReplaceAll(cell, string(record.ListSep), " ")
	}
	return cmp.Or(read("displayName"), strings.TrimSpace(read("givenName")+" "+read("familyName")), read("userName"), read("email"))
}

// StatisticsView counts a roster's attributes.
type StatisticsView struct {
	Roster     int64               `json:"roster"`
	Records    int                 `json:"records"`
	Attributes []record.Statistics `json:"attributes"`
}

// Statistics counts a roster's attributes, once.
func (s *Service) Statistics(ctx context.Context, id int64) (v StatisticsView, err error) {
	r, err := s.takenRoster(ctx, id)
	if err != nil {
		return v, err
	}
	if raw, err := s.Store.Statistics(ctx, id); err == nil && raw != nil {
		return v, json.Unmarshal(raw, &v)
	}
	x, err := s.Store.SystemByID(ctx, r.SystemID)
	if err != nil {
		return v, err
	}
	shape, err := s.reach.ShapeOf(x, r.Shape)
	if err != nil {
		return v, err
	}
	roster, shape, err := s.intake.Load(ctx, x, r, shape.Canonical(), nil)
	if err != nil {
		return v, err
	}
	changed := map[string]int{}
	if before, err := s.Store.Before(ctx, r); err == nil {
		if changed, err = s.Store.ChangedNatives(ctx, x.ID, before.ID, r.ID); err != nil {
			return v, err
		}
	}
	v = StatisticsView{Roster: id, Records: roster.Len(), Attributes: roster.Describe()}
	for i, a := range v.Attributes {
		native := shape.Attributes[a.Attribute].Native
		v.Attributes[i].Native, v.Attributes[i].Changed = native, changed[native]
	}
	return v, s.Store.KeepStatistics(ctx, id, v)
}

// RecordHistory is a record through time.
type RecordHistory struct {
	System   string          `json:"system"`
	ID       string          `json:"id"`
	Versions []store.Version `json:"versions"`
}

// History finds a record's versions, or the one of a day or an instant.
func (s *Service) History(ctx context.Context, system, id, at string) (v RecordHistory, err error) {
	x, err := s.system(ctx, system)
	if err != nil {
		return v, fault.About(err, "system", system)
	}
	v = RecordHistory{System: system, ID: id, Versions: []store.Version{}}
	list, err := s.Store.Versions(ctx, x.ID, id)
	if err != nil {
		return v, err
	}
	if len(list) == 0 {
		return v, fault.New(fault.NotFound, fmt.Sprintf("system %s never had a record %q", system, id), "", "twinning roster records ROSTER --search TEXT finds ids")
	}
	if at == "" {
		v.Versions = list
		return v, nil
	}
	instant, err := time.Parse(time.RFC3339, at)
	if err != nil {
		if instant, err = calendar.End(at, nil); err != nil {
			return v, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("%q is no day and no instant", at), Detail: "expected one such as 2026-11-25 (its end in UTC) or 2026-11-25T08:00:00Z", Field: "at"}
		}
	}
	for _, version := range list {
		if !version.Since.After(instant) && (version.Until == nil || version.Until.After(instant)) {
			v.Versions = append(v.Versions, version)
		}
	}
	return v, nil
}
