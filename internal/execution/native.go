package execution

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"twinning/internal/connector"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

var errNoNative = errors.New("the shape names no native attribute")

// nativeEditsOf turns canonical edits into native ones, given the record as it is
// now (nil for a new one). Attributes that share a native one are edited together,
// and what the shape does not speak of stays.
func (x *run) nativeEditsOf(ctx context.Context, c store.Change, rec *connector.Record) (_ []connector.Edit, err error) {
	out := make([]connector.Edit, 0, len(c.Body.V.Edits))
	for _, e := range x.writes(c) {
		src, ok := x.shape.Attributes[e.Attribute]
		switch {
		case !ok || src.Native == "":
			return nil, fmt.Errorf("%w for %s", errNoNative, e.Attribute)
		case src.Native == connector.Nested:
			return nil, fmt.Errorf("%s is read, and can't be written: it comes of which groups are in which", e.Attribute)
		case src.Native == connector.Owned:
			return nil, fmt.Errorf("%s is written by a hand-over alone (leavers: hand-over: lists): take it out of the charter's attributes", e.Attribute)
		}
		i := slices.IndexFunc(out, func(o connector.Edit) bool { return o.Native == src.Native })
		if i < 0 {
			edit := connector.Edit{Native: src.Native}
			if rec != nil {
				edit.Old = rec.Values[src.Native]
			}
			edit.New = edit.Old
			i, out = len(out), append(out, edit)
		}
		if src.Refers != "" {
			if out[i].New, err = x.reference(ctx, src, e.New); err != nil {
				return nil, err
			}
			continue
		}
		encoded, err := src.Encode(record.KindOf(e.Attribute), record.SplitList(e.New), out[i].New, x.charter.Zone)
		if err != nil {
			return nil, err
		}
		out[i].New = encoded
	}
	return out, nil
}

// reference is how the system itself refers to the record of an id: by another
// attribute of it, as it is now.
func (x *run) reference(ctx context.Context, src record.Source, id string) ([]string, error) {
	if id == "" {
		return nil, nil
	}
	meant, err := x.account(ctx, id)
	if err != nil {
		return nil, fmt.Errorf("%s refers to account %q, which can't be read: %w", src.Native, id, err)
	}
	if len(meant.Values[src.Refers]) == 0 {
		return nil, fmt.Errorf("%s refers by %s, which account %q does not carry", src.Native, src.Refers, id)
	}
	return meant.Values[src.Refers][:1], nil
}

func (s *sender) nativeEdits(rec *connector.Record) ([]connector.Edit, error) {
	return s.nativeEditsOf(s.ctx, s.c, rec)
}
