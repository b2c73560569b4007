package httpapi

import (
	"context"

	"twinning/internal/httpapi/openapi"
	"twinning/internal/service"
)

func (s *server) DraftPlan(ctx context.Context, r openapi.DraftPlanRequestObject) (openapi.DraftPlanResponseObject, error) {
	which := service.Selection{People: value(r.Body.PersonIds), Waves: value(r.Body.Waves)}
	for _, code := range value(r.Body.Findings) {
		which.Findings = append(which.Findings, string(code))
	}
	v, later, err := s.cfg.Service.StartDraft(ctx, caller(ctx), r.Lane, which)
	if later != nil || err != nil {
		return beginning(later, err, taskAt)
	}
	return as[openapi.DraftPlan201JSONResponse](v, err)
}

func (s *server) DraftAction(ctx context.Context, r openapi.DraftActionRequestObject) (openapi.DraftActionResponseObject, error) {
	b := r.Body
	a := service.Action{Verb: string(b.Verb), Accounts: value(b.AccountIds), People: value(b.PersonIds), Groups: value(b.Groups), Container: value(b.Container), Reason: b.Reason, Until: value(dayText(b.Until))}
	if f := b.Findings; f != nil {
		found, err := selected(*f, "findings.expect")
		if err != nil {
			return nil, err
		}
		a.Findings = &found
	}
	v, later, err := s.cfg.Service.StartAction(ctx, caller(ctx), r.Lane, a)
	if later != nil || err != nil {
		return beginning(later, err, taskAt)
	}
	return as[openapi.DraftAction201JSONResponse](v, err)
}

func (s *server) DraftUndo(ctx context.Context, r openapi.DraftUndoRequestObject) (openapi.DraftUndoResponseObject, error) {
	v, later, err := s.cfg.Service.StartUndo(ctx, caller(ctx), r.Run, service.Undoing{Wave: value(r.Body.Wave), People: value(r.Body.Ids), Reason: r.Body.Reason, Until: value(dayText(r.Body.Until))})
	if later != nil || err != nil {
		return beginning(later, err, taskAt)
	}
	return as[openapi.DraftUndo201JSONResponse](v, err)
}

func (s *server) ExportSheet(ctx context.Context, r openapi.ExportSheetRequestObject) (openapi.ExportSheetResponseObject, error) {
	e, err := s.cfg.Service.SheetOf(ctx, caller(ctx), r.Lane, service.SheetWanted{Format: string(value(r.Params.Format)), Columns: words(value(r.Params.Columns)), State: string(value(r.Params.State))})
	return download{e, ctx}, err
}

func (s *server) LoadSheet(ctx context.Context, r openapi.LoadSheetRequestObject) (openapi.LoadSheetResponseObject, error) {
	v, later, err := s.cfg.Service.StartSheet(ctx, caller(ctx), r.Lane, service.SheetSent{Name: value(r.Params.Name), Intent: string(value(r.Params.Intent)), Reason: value(r.Params.Reason), Body: r.Body})
	if later != nil || err != nil {
		return beginning(later, err, taskAt)
	}
	return as[openapi.LoadSheet201JSONResponse](v, err)
}

func (s *server) ExportPlan(ctx context.Context, r openapi.ExportPlanRequestObject) (openapi.ExportPlanResponseObject, error) {
	e, err := s.cfg.Service.ExportPlan(ctx, caller(ctx), r.Plan, string(value(r.Params.Format)))
	return download{e, ctx}, err
}

func (s *server) DecideBySheet(ctx context.Context, r openapi.DecideBySheetRequestObject) (openapi.DecideBySheetResponseObject, error) {
	v, err := s.cfg.Service.DecideBySheet(ctx, caller(ctx), r.Plan, value(r.Params.Name), r.Body)
	return as[openapi.DecideBySheet200JSONResponse](map[string]any{"plan": v.PlanView, "along": v.Along}, err)
}

func (s *server) CountChanges(ctx context.Context, r openapi.CountChangesRequestObject) (openapi.CountChangesResponseObject, error) {
	list, err := s.cfg.Service.ChangesBy(ctx, r.Plan, string(r.Params.By), page(ctx, r.Params.Q, nil, r.Params.Limit))
	return as[openapi.CountChanges200JSONResponse](listed(list), err)
}

func (s *server) ListMoves(ctx context.Context, r openapi.ListMovesRequestObject) (openapi.ListMovesResponseObject, error) {
	list, err := s.cfg.Service.Moves(ctx, r.Plan)
	return as[openapi.ListMoves200JSONResponse](listed(list), err)
}

func (s *server) ComparePlans(ctx context.Context, r openapi.ComparePlansRequestObject) (openapi.ComparePlansResponseObject, error) {
	list, next, total, err := s.cfg.Service.ComparePlans(ctx, r.Plan, r.Params.Other, page(ctx, nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ComparePlans200JSONResponse](counted(list, next, total), err)
}

func (s *server) ListRefusals(ctx context.Context, r openapi.ListRefusalsRequestObject) (openapi.ListRefusalsResponseObject, error) {
	list, next, total, err := s.cfg.Service.Refusals(ctx, r.Plan, page(ctx, r.Params.Q, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListRefusals200JSONResponse](counted(list, next, total), err)
}

func (s *server) DecideChanges(ctx context.Context, r openapi.DecideChangesRequestObject) (openapi.DecideChangesResponseObject, error) {
	v, err := s.cfg.Service.Decide(ctx, caller(ctx), r.Plan, service.Decision{Hash: r.Body.Hash, Changes: r.Body.ChangeIds, Aside: r.Body.Decision == openapi.DecisionInputDecisionSetAside, Reason: value(r.Body.Reason)})
	return as[openapi.DecideChanges200JSONResponse](map[string]any{"plan": v.PlanView, "along": v.Along}, err)
}

func (s *server) ListComments(ctx context.Context, r openapi.ListCommentsRequestObject) (openapi.ListCommentsResponseObject, error) {
	list, next, err := s.cfg.Service.Comments(ctx, r.Plan, page(ctx, nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListComments200JSONResponse](onPage(list, next), err)
}

func (s *server) AddComment(ctx context.Context, r openapi.AddCommentRequestObject) (openapi.AddCommentResponseObject, error) {
	c, err := s.cfg.Service.Comment(ctx, caller(ctx), r.Plan, value(r.Body.Change), r.Body.Text)
	return as[openapi.AddComment201JSONResponse](c, err)
}

func (s *server) ListPlans(ctx context.Context, r openapi.ListPlansRequestObject) (openapi.ListPlansResponseObject, error) {
	list, next, err := s.cfg.Service.Plans(ctx, r.Lane, page(ctx, nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListPlans200JSONResponse](onPage(list, next), err)
}

func (s *server) GetPlan(ctx context.Context, r openapi.GetPlanRequestObject) (openapi.GetPlanResponseObject, error) {
	v, err := s.cfg.Service.Plan(ctx, r.Plan)
	return as[openapi.GetPlan200JSONResponse](v, err)
}

func (s *server) ListChanges(ctx context.Context, r openapi.ListChangesRequestObject) (openapi.ListChangesResponseObject, error) {
	p := page(ctx, r.Params.Q, r.Params.Cursor, r.Params.Limit)
	p.Sort = string(value(r.Params.Sort))
	list, next, total, err := s.cfg.Service.Changes(ctx, r.Plan, string(value(r.Params.Verb)), string(value(r.Params.Outcome)), p)
	return as[openapi.ListChanges200JSONResponse](counted(list, next, total), err)
}

func (s *server) SealPlan(ctx context.Context, r openapi.SealPlanRequestObject) (openapi.SealPlanResponseObject, error) {
	v, err := s.cfg.Service.Seal(ctx, caller(ctx), r.Plan, r.Body.Hash, value(r.Body.Overrule))
	return as[openapi.SealPlan200JSONResponse](v, err)
}

func (s *server) SealOrdinary(ctx context.Context, r openapi.SealOrdinaryRequestObject) (openapi.SealOrdinaryResponseObject, error) {
	v, err := s.cfg.Service.SealOrdinary(ctx, caller(ctx), r.Plan, r.Body.Hash)
	return as[openapi.SealOrdinary200JSONResponse](v, err)
}

func (s *server) VoidPlan(ctx context.Context, r openapi.VoidPlanRequestObject) (openapi.VoidPlanResponseObject, error) {
	v, err := s.cfg.Service.Void(ctx, caller(ctx), r.Plan, value(r.Params.Hash))
	return as[openapi.VoidPlan200JSONResponse](v, err)
}

func (s *server) RunPlan(ctx context.Context, r openapi.RunPlanRequestObject) (openapi.RunPlanResponseObject, error) {
	v, err := s.cfg.Service.StartRun(ctx, caller(ctx), r.Plan, r.Body.Hash, service.RunOrder{Wave: value(r.Body.Wave), AnyTime: value(r.Body.AnyTime)})
	return beginning(v, err, runAt)
}

func (s *server) ListRuns(ctx context.Context, r openapi.ListRunsRequestObject) (openapi.ListRunsResponseObject, error) {
	list, err := s.cfg.Service.Runs(ctx, r.Plan)
	return as[openapi.ListRuns200JSONResponse](listed(list), err)
}

func (s *server) GetRun(ctx context.Context, r openapi.GetRunRequestObject) (openapi.GetRunResponseObject, error) {
	v, err := s.cfg.Service.Run(ctx, r.Run)
	return as[openapi.GetRun200JSONResponse](v, err)
}

func (s *server) HaltRun(ctx context.Context, r openapi.HaltRunRequestObject) (openapi.HaltRunResponseObject, error) {
	v, err := s.cfg.Service.Halt(ctx, caller(ctx), r.Run)
	return as[openapi.HaltRun200JSONResponse](v, err)
}

func (s *server) VerifyRun(ctx context.Context, r openapi.VerifyRunRequestObject) (openapi.VerifyRunResponseObject, error) {
	t, err := s.cfg.Service.Verify(ctx, caller(ctx), r.Run)
	return beginning(t, err, taskAt)
}

func (s *server) SettleReceipt(ctx context.Context, r openapi.SettleReceiptRequestObject) (openapi.SettleReceiptResponseObject, error) {
	v, err := s.cfg.Service.Settle(ctx, caller(ctx), r.Run, r.Number, r.Body.Done, value(r.Body.Account), r.Body.Reason)
	return as[openapi.SettleReceipt200JSONResponse](v, err)
}

func (s *server) CollectSecrets(ctx context.Context, r openapi.CollectSecretsRequestObject) (openapi.CollectSecretsResponseObject, error) {
	e, err := s.cfg.Service.CollectSecrets(ctx, caller(ctx), r.Run, r.Body.Passphrase, value(r.Body.Count))
	return download{e, ctx}, err
}

func (s *server) ListDeliveries(ctx context.Context, r openapi.ListDeliveriesRequestObject) (openapi.ListDeliveriesResponseObject, error) {
	f := service.DeliveryFilter{Run: value(r.Params.Run), Verb: string(value(r.Params.Verb)), State: string(value(r.Params.State))}
	list, next, total, err := s.cfg.Service.Deliveries(ctx, r.Lane, f, page(ctx, r.Params.Q, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListDeliveries200JSONResponse](counted(list, next, total), err)
}

func (s *server) ListReceipts(ctx context.Context, r openapi.ListReceiptsRequestObject) (openapi.ListReceiptsResponseObject, error) {
	list, next, err := s.cfg.Service.Receipts(ctx, r.Run, string(value(r.Params.Outcome)), r.Params.Number, page(ctx, nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListReceipts200JSONResponse](onPage(list, next), err)
}

func (s *server) ExportReceipts(ctx context.Context, r openapi.ExportReceiptsRequestObject) (openapi.ExportReceiptsResponseObject, error) {
	kind := string(value(r.Params.Format))
	if kind == "" {
		kind = "jsonl"
	}
	e, err := s.cfg.Service.ExportReceipts(ctx, caller(ctx), r.Run, kind)
	return download{e, ctx}, err
}
