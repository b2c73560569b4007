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

func (s *server) VoidPlan(ctx context.Context, r openapi.VoidPlanRequestObject) (openapi.VoidPlanResponseObject, error) {
	v, err := s.cfg.Service.Void(ctx, caller(ctx), r.Plan)
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

func (s *server) ListReceipts(ctx context.Context, r openapi.ListReceiptsRequestObject) (openapi.ListReceiptsResponseObject, error) {
	list, next, err := s.cfg.Service.Receipts(ctx, r.Run, string(value(r.Params.Outcome)), page(ctx, nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListReceipts200JSONResponse](onPage(list, next), err)
}
