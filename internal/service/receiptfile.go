package service

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"twinning/internal/access"
	"twinning/internal/fault"
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
	e, err := s.tableOf(fmt.Sprintf("run-%d-receipts", run), kind, receiptColumns, func(each func(line any, row map[string][]string) error) error {
		all, err := s.Store.AllReceipts(ctx, run)
		if err != nil {
			return err
		}
		for _, r := range all {
			if err := each(r, receiptRow(r)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return e, err
	}
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
