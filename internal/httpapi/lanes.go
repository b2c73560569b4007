package httpapi

import (
	"context"

	"twinning/internal/core/document"
	"twinning/internal/httpapi/openapi"
	"twinning/internal/service"
)

func (s *server) ListLanes(ctx context.Context, r openapi.ListLanesRequestObject) (openapi.ListLanesResponseObject, error) {
	list, err := s.cfg.Service.Lanes(ctx)
	return as[openapi.ListLanes200JSONResponse](listed(list), err)
}

func (s *server) GetLane(ctx context.Context, r openapi.GetLaneRequestObject) (openapi.GetLaneResponseObject, error) {
	v, err := s.cfg.Service.Lane(ctx, r.Lane)
	return as[openapi.GetLane200JSONResponse](v, err)
}

func (s *server) RemoveLane(ctx context.Context, r openapi.RemoveLaneRequestObject) (openapi.RemoveLaneResponseObject, error) {
	if err := s.cfg.Service.RemoveLane(ctx, caller(ctx), r.Lane); err != nil {
		return nil, err
	}
	return openapi.RemoveLane204Response{}, nil
}

func (s *server) SetObserving(ctx context.Context, r openapi.SetObservingRequestObject) (openapi.SetObservingResponseObject, error) {
	v, err := s.cfg.Service.SetObserving(ctx, caller(ctx), r.Lane, r.Body.On)
	return as[openapi.SetObserving200JSONResponse](v, err)
}

func (s *server) GetCharter(ctx context.Context, r openapi.GetCharterRequestObject) (openapi.GetCharterResponseObject, error) {
	v, err := s.cfg.Service.Charter(ctx, r.Lane, value(r.Params.Version))
	body, err := as[openapi.Charter](v, err)
	return versioned[openapi.Charter]{body, v.Version}, err
}

func (s *server) PutCharter(ctx context.Context, r openapi.PutCharterRequestObject) (openapi.PutCharterResponseObject, error) {
	version, err := ifMatch(r.Params.IfMatch, 0, -1)
	if err != nil {
		return nil, err
	}
	v, err := s.cfg.Service.PutCharter(ctx, caller(ctx), r.Lane, r.Body.Source, version, value(r.Body.Note))
	return as[openapi.PutCharter200JSONResponse](v, err)
}

func (s *server) ListCharters(ctx context.Context, r openapi.ListChartersRequestObject) (openapi.ListChartersResponseObject, error) {
	list, next, err := s.cfg.Service.Charters(ctx, r.Lane, page(ctx, nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListCharters200JSONResponse](onPage(list, next), err)
}

func (s *server) DiffCharters(ctx context.Context, r openapi.DiffChartersRequestObject) (openapi.DiffChartersResponseObject, error) {
	v, err := s.cfg.Service.DiffCharters(ctx, r.Lane, value(r.Params.From), value(r.Params.To))
	return as[openapi.DiffCharters200JSONResponse](v, err)
}

func (s *server) TryCharter(ctx context.Context, r openapi.TryCharterRequestObject) (openapi.TryCharterResponseObject, error) {
	v, err := s.cfg.Service.TryCharter(ctx, r.Lane, value(r.Body.Source), r.Body.PersonId, value(r.Body.AccountId))
	return as[openapi.TryCharter200JSONResponse](v, err)
}

func (s *server) CompareCharter(ctx context.Context, r openapi.CompareCharterRequestObject) (openapi.CompareCharterResponseObject, error) {
	v, later, err := s.cfg.Service.CompareCharter(ctx, caller(ctx), r.Lane, r.Body.Source)
	if later != nil {
		return beginning(later, err, taskAt)
	}
	return as[openapi.CompareCharter200JSONResponse](v, err)
}

func (s *server) OfferBonds(ctx context.Context, r openapi.OfferBondsRequestObject) (openapi.OfferBondsResponseObject, error) {
	list, err := s.cfg.Service.OfferBonds(ctx, r.Lane, r.Params.To, service.Offering{PersonBy: value(r.Params.PersonBy), AccountBy: value(r.Params.AccountBy)})
	return as[openapi.OfferBonds200JSONResponse](listed(list), err)
}

func (s *server) ShowComparison(ctx context.Context, r openapi.ShowComparisonRequestObject) (openapi.ShowComparisonResponseObject, error) {
	v, err := s.cfg.Service.Comparison(ctx, r.Lane, r.Task)
	return as[openapi.ShowComparison200JSONResponse](v, err)
}

func (s *server) CheckCharter(ctx context.Context, r openapi.CheckCharterRequestObject) (openapi.CheckCharterResponseObject, error) {
	c, err := s.cfg.Service.CheckCharter(ctx, r.Body.Source)
	if err != nil {
		return nil, err
	}
	return as[openapi.CheckCharter200JSONResponse](map[string]any{"lane": c.Lane, "notes": append([]document.Problem{}, c.Notes...)}, nil)
}

func (s *server) GetVocabulary(ctx context.Context, r openapi.GetVocabularyRequestObject) (openapi.GetVocabularyResponseObject, error) {
	v, err := s.cfg.Service.Vocabulary(ctx, r.Lane)
	return as[openapi.GetVocabulary200JSONResponse](v, err)
}

func (s *server) Reconcile(ctx context.Context, r openapi.ReconcileRequestObject) (openapi.ReconcileResponseObject, error) {
	t, err := s.cfg.Service.Reconcile(ctx, caller(ctx), r.Lane, value(r.Params.Learn))
	return beginning(t, err, taskAt)
}

func (s *server) TryEvidence(ctx context.Context, r openapi.TryEvidenceRequestObject) (openapi.TryEvidenceResponseObject, error) {
	t, err := s.cfg.Service.Try(ctx, caller(ctx), r.Lane, value(r.Params.Keep))
	return beginning(t, err, taskAt)
}

func (s *server) ShowTrial(ctx context.Context, r openapi.ShowTrialRequestObject) (openapi.ShowTrialResponseObject, error) {
	t, err := s.cfg.Service.Trial(ctx, r.Lane)
	return as[openapi.ShowTrial200JSONResponse](t, err)
}

func (s *server) KeepTrial(ctx context.Context, r openapi.KeepTrialRequestObject) (openapi.KeepTrialResponseObject, error) {
	t, err := s.cfg.Service.KeepTrial(ctx, caller(ctx), r.Lane, r.Body.Id)
	return as[openapi.KeepTrial200JSONResponse](t, err)
}

func (s *server) ListReconciliations(ctx context.Context, r openapi.ListReconciliationsRequestObject) (openapi.ListReconciliationsResponseObject, error) {
	list, next, err := s.cfg.Service.Reconciliations(ctx, r.Lane, page(ctx, nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListReconciliations200JSONResponse](onPage(list, next), err)
}

func (s *server) ListVerdicts(ctx context.Context, r openapi.ListVerdictsRequestObject) (openapi.ListVerdictsResponseObject, error) {
	p := page(ctx, r.Params.Q, r.Params.Cursor, r.Params.Limit)
	p.Sort = string(value(r.Params.Sort))
	list, next, total, err := s.cfg.Service.Verdicts(ctx, r.Lane, string(r.Params.Side), string(value(r.Params.State)), p)
	return as[openapi.ListVerdicts200JSONResponse](counted(list, next, total), err)
}

func (s *server) Why(ctx context.Context, r openapi.WhyRequestObject) (openapi.WhyResponseObject, error) {
	v, err := s.cfg.Service.Why(ctx, r.Lane, value(r.Params.Person), value(r.Params.Account))
	return as[openapi.Why200JSONResponse](v, err)
}

func (s *server) ListRulings(ctx context.Context, r openapi.ListRulingsRequestObject) (openapi.ListRulingsResponseObject, error) {
	list, err := s.cfg.Service.Rulings(ctx, r.Lane)
	return as[openapi.ListRulings200JSONResponse](listed(list), err)
}

func (s *server) Rule(ctx context.Context, r openapi.RuleRequestObject) (openapi.RuleResponseObject, error) {
	v, err := s.cfg.Service.Rule(ctx, caller(ctx), r.Lane, ruling(*r.Body), value(r.Body.Seen))
	return as[openapi.Rule201JSONResponse](v, err)
}

func ruling(in openapi.RulingInput) service.Ruling {
	return service.Ruling{Kind: string(in.Kind), Person: value(in.Person), Account: value(in.Account), Reason: in.Reason, Until: dayText(in.Until)}
}

func (s *server) RuleAll(ctx context.Context, r openapi.RuleAllRequestObject) (openapi.RuleAllResponseObject, error) {
	many := service.Many{Snapshot: value(r.Body.Snapshot), Filter: service.QuestionFilter{Code: value(r.Body.Code), Least: value(r.Body.Least), Most: 1}, Text: value(r.Body.Q)}
	if r.Body.Most != nil {
		many.Filter.Most = *r.Body.Most
	}
	for _, in := range r.Body.Rulings {
		many.Rulings, many.Seen = append(many.Rulings, ruling(in)), append(many.Seen, value(in.Seen))
	}
	v, err := s.cfg.Service.RuleAll(ctx, caller(ctx), r.Lane, many)
	return as[openapi.RuleAll200JSONResponse](v, err)
}

func (s *server) ListQuestions(ctx context.Context, r openapi.ListQuestionsRequestObject) (openapi.ListQuestionsResponseObject, error) {
	f := service.QuestionFilter{Code: string(value(r.Params.Code)), Least: value(r.Params.Least), Most: 1}
	if r.Params.Most != nil {
		f.Most = *r.Params.Most
	}
	v, err := s.cfg.Service.Questions(ctx, r.Lane, f, page(ctx, r.Params.Q, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListQuestions200JSONResponse](v, err)
}

func (s *server) FaceRecords(ctx context.Context, r openapi.FaceRecordsRequestObject) (openapi.FaceRecordsResponseObject, error) {
	v, err := s.cfg.Service.Face(ctx, r.Lane, value(r.Params.Person), value(r.Params.Account))
	return as[openapi.FaceRecords200JSONResponse](v, err)
}

func (s *server) ShowWeights(ctx context.Context, r openapi.ShowWeightsRequestObject) (openapi.ShowWeightsResponseObject, error) {
	v, err := s.cfg.Service.Weights(ctx, r.Lane)
	return as[openapi.ShowWeights200JSONResponse](v, err)
}

func (s *server) ClearRuling(ctx context.Context, r openapi.ClearRulingRequestObject) (openapi.ClearRulingResponseObject, error) {
	if err := s.cfg.Service.ClearRuling(ctx, caller(ctx), r.Lane, r.Ruling); err != nil {
		return nil, err
	}
	return openapi.ClearRuling204Response{}, nil
}

func (s *server) ListWithheld(ctx context.Context, r openapi.ListWithheldRequestObject) (openapi.ListWithheldResponseObject, error) {
	list, next, total, err := s.cfg.Service.Withheld(ctx, r.Lane, string(value(r.Params.Verb)), page(ctx, r.Params.Q, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListWithheld200JSONResponse](counted(list, next, total), err)
}

func (s *server) ListBonds(ctx context.Context, r openapi.ListBondsRequestObject) (openapi.ListBondsResponseObject, error) {
	list, err := s.cfg.Service.Bonds(ctx, r.Lane)
	return as[openapi.ListBonds200JSONResponse](listed(list), err)
}

func (s *server) ListFindings(ctx context.Context, r openapi.ListFindingsRequestObject) (openapi.ListFindingsResponseObject, error) {
	p := page(ctx, r.Params.Q, r.Params.Cursor, r.Params.Limit)
	p.Sort = string(value(r.Params.Sort))
	found, err := s.cfg.Service.Findings(ctx, r.Lane, service.FindingFilter{Code: string(value(r.Params.Code)), Severity: string(value(r.Params.Severity)), AssignedTo: value(r.Params.Assigned), New: value(r.Params.New)}, p)
	v := counted(found.Items, found.Next, found.Total)
	v["counts"] = found.Counts
	if found.Snapshot != "" {
		v["snapshot"] = found.Snapshot
	}
	return as[openapi.ListFindings200JSONResponse](v, err)
}

func (s *server) ListGoneFindings(ctx context.Context, r openapi.ListGoneFindingsRequestObject) (openapi.ListGoneFindingsResponseObject, error) {
	list, next, total, err := s.cfg.Service.GoneFindings(ctx, r.Lane, string(value(r.Params.Code)), page(ctx, r.Params.Q, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListGoneFindings200JSONResponse](counted(list, next, total), err)
}

func (s *server) ActOnFindings(ctx context.Context, r openapi.ActOnFindingsRequestObject) (openapi.ActOnFindingsResponseObject, error) {
	act := service.FindingAct{
		Act: string(r.Body.Act), Until: dayText(r.Body.Until), Reason: value(r.Body.Reason), To: value(r.Body.To),
	}
	b := r.Body
	var err error
	if act.FindingSelection, err = selected(openapi.FoundInput{Assigned: b.Assigned, Code: b.Code, Expect: b.Expect, Ids: b.Findings, New: b.New, Q: b.Q, Severity: b.Severity, Snapshot: b.Snapshot}, "expect"); err != nil {
		return nil, err
	}
	n, err := s.cfg.Service.ActOnFindings(ctx, caller(ctx), r.Lane, act)
	return as[openapi.ActOnFindings200JSONResponse](map[string]int{"count": n}, err)
}

// selected are the findings that a request names; field is where it says how many they are, which
// it must where it gives no ids.
func selected(f openapi.FoundInput, field string) (service.FindingSelection, error) {
	s := service.FindingSelection{Text: value(f.Q), IDs: value(f.Ids), Expect: -1, Snapshot: value(f.Snapshot),
		Which: service.FindingFilter{Code: string(value(f.Code)), Severity: string(value(f.Severity)), AssignedTo: value(f.Assigned), New: value(f.New)}}
	if len(s.IDs) > 0 {
		return s, nil
	}
	if f.Expect == nil {
		return s, howMany(field)
	}
	s.Expect = *f.Expect
	return s, nil
}

func howMany(field string) error {
	return &service.Error{Kind: service.Invalid, Title: "say how many findings are meant", Detail: "without ids all that the filters mean are acted on, so `expect` must say how many you have seen", Field: field}
}

func (s *server) AcceptFinding(ctx context.Context, r openapi.AcceptFindingRequestObject) (openapi.AcceptFindingResponseObject, error) {
	if err := s.cfg.Service.Accept(ctx, caller(ctx), r.Lane, r.Finding, dayText(r.Body.Until), value(r.Body.Reason)); err != nil {
		return nil, err
	}
	return openapi.AcceptFinding204Response{}, nil
}

func (s *server) UnacceptFinding(ctx context.Context, r openapi.UnacceptFindingRequestObject) (openapi.UnacceptFindingResponseObject, error) {
	if err := s.cfg.Service.Unaccept(ctx, caller(ctx), r.Lane, r.Finding); err != nil {
		return nil, err
	}
	return openapi.UnacceptFinding204Response{}, nil
}

func (s *server) ListIntentions(ctx context.Context, r openapi.ListIntentionsRequestObject) (openapi.ListIntentionsResponseObject, error) {
	list, next, total, err := s.cfg.Service.Intentions(ctx, r.Lane, string(value(r.Params.Verb)), value(dayText(r.Params.Due)), page(ctx, r.Params.Q, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListIntentions200JSONResponse](counted(list, next, total), err)
}

func (s *server) ListIntentionDays(ctx context.Context, r openapi.ListIntentionDaysRequestObject) (openapi.ListIntentionDaysResponseObject, error) {
	days, err := s.cfg.Service.IntentionDays(ctx, r.Lane, value(dayText(r.Params.From)), value(dayText(r.Params.To)))
	return as[openapi.ListIntentionDays200JSONResponse](days, err)
}

func (s *server) CancelIntention(ctx context.Context, r openapi.CancelIntentionRequestObject) (openapi.CancelIntentionResponseObject, error) {
	if err := s.cfg.Service.CancelIntention(ctx, caller(ctx), r.Lane, r.Intention, r.Body.Reason); err != nil {
		return nil, err
	}
	return openapi.CancelIntention204Response{}, nil
}

func (s *server) RestoreIntention(ctx context.Context, r openapi.RestoreIntentionRequestObject) (openapi.RestoreIntentionResponseObject, error) {
	if err := s.cfg.Service.RestoreIntention(ctx, caller(ctx), r.Lane, r.Intention); err != nil {
		return nil, err
	}
	return openapi.RestoreIntention204Response{}, nil
}
