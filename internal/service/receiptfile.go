package service

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"twinning/internal/access"
	"twinning/internal/fault"
	"twinning/internal/format"
	"twinning/internal/format/anyfile"
	"twinning/internal/store"
)

// receiptColumns are those of a run's receipts as a sheet.
var receiptColumns = []string{"number", "verb", "whose", "person", "account", "outcome", "detail", "intended", "ended", "attempts", "before", "sent", "after", "verified", "trace"}

// ExportReceipts prepares the receipts of a run with their traces as a file: for a spreadsheet,
// or a line each, as whoever runs the system asks for them.
func (s *Service) ExportReceipts(ctx context.Context, who access.Caller, run int64, kind string) (Export, error) {
	if _, err := s.Store.Run(ctx, run); err != nil {
		return Export{}, fault.About(err, "run", fmt.Sprint(run))
	}
	if !slices.Contains([]string{"xlsx", "csv", "jsonl"}, kind) {
		return Export{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("receipts can't be given out as %q", kind), Detail: "expected xlsx, csv or jsonl", Field: "format"}
	}
	e := Export{Name: fmt.Sprintf("run-%d-receipts.%s", run, kind)}
	e.write = func(w io.Writer) error {
		all, err := s.Store.AllReceipts(ctx, run)
		if err != nil {
			return err
		}
		if kind == "jsonl" {
			for _, r := range all {
				if _, err := w.Write(append(asJSON(r), '\n')); err != nil {
					return err
				}
			}
			return nil
		}
		out, err := anyfile.NewWriter(w, kind, receiptColumns, format.Writing{People: true, BOM: true})
		if err != nil {
			return err
		}
		for _, r := range all {
			if err := out.Write(receiptRow(r)); err != nil {
				return err
			}
		}
		return out.Close()
	}
	e.open = func(ctx context.Context) (func(), error) { return s.place(ctx, s.exports, "exports") }
	return e, s.act(ctx, who, "run.export", fmt.Sprintf("run %d", run), map[string]string{"format": kind}, onlyTold)
}

func receiptRow(r store.Receipt) map[string][]string {
	natives := func(of map[string][]string) []string {
		var list []string
		for _, name := range slices.Sorted(maps.Keys(of)) {
			list = append(list, name+"="+strings.Join(of[name], ";"))
		}
		return []string{strings.Join(list, " ")}
	}
	const instant = time.RFC3339
	ended := ""
	if r.Ended != nil {
		ended = r.Ended.UTC().Format(instant)
	}
	return map[string][]string{
		"number": {fmt.Sprint(r.Number)}, "verb": {r.Verb}, "whose": {r.Label}, "person": {r.Person}, "account": {r.Account}, "outcome": {r.Outcome}, "detail": {r.Detail},
		"intended": {r.Intended.UTC().Format(instant)}, "ended": {ended}, "attempts": {fmt.Sprint(r.Attempts)},
		"before": natives(r.Before.V), "sent": natives(r.Sent.V), "after": natives(r.After.V), "verified": {r.Verified}, "trace": {strings.Join(r.Trace.V, " | ")},
	}
}
