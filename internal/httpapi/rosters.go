package httpapi

import (
	"context"
	"encoding/json"
	"mime"
	"net/http"
	"strings"
	"time"

	"twinning/internal/httpapi/openapi"
	"twinning/internal/service"
)

func (s *server) ListRosters(ctx context.Context, r openapi.ListRostersRequestObject) (openapi.ListRostersResponseObject, error) {
	list, next, err := s.cfg.Service.Rosters(ctx, r.System, page(ctx, nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListRosters200JSONResponse](onPage(list, next), err)
}

func (s *server) TakeRoster(ctx context.Context, r openapi.TakeRosterRequestObject) (openapi.TakeRosterResponseObject, error) {
	t, err := s.cfg.Service.TakeRoster(ctx, caller(ctx), r.System, service.Taking{
		Extent: string(value(r.Params.Extent)), Name: value(r.Params.Name), NewScope: value(r.Params.NewScope), File: value(r.Params.File), Body: r.Body,
	})
	return beginning(t, err, taskAt)
}

func (s *server) GetRoster(ctx context.Context, r openapi.GetRosterRequestObject) (openapi.GetRosterResponseObject, error) {
	x, err := s.cfg.Service.Roster(ctx, r.Roster)
	return as[openapi.GetRoster200JSONResponse](x, err)
}

func (s *server) ListRecords(ctx context.Context, r openapi.ListRecordsRequestObject) (openapi.ListRecordsResponseObject, error) {
	list, next, total, err := s.cfg.Service.Records(ctx, r.Roster, page(ctx, r.Params.Q, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListRecords200JSONResponse](counted(list, next, total), err)
}

func (s *server) ListRejections(ctx context.Context, r openapi.ListRejectionsRequestObject) (openapi.ListRejectionsResponseObject, error) {
	list, next, err := s.cfg.Service.Rejections(ctx, r.Roster, page(ctx, nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListRejections200JSONResponse](onPage(list, next), err)
}

func (s *server) ListLeftOut(ctx context.Context, r openapi.ListLeftOutRequestObject) (openapi.ListLeftOutResponseObject, error) {
	list, reasons, next, err := s.cfg.Service.LeftOut(ctx, r.Roster, page(ctx, r.Params.Q, r.Params.Cursor, r.Params.Limit))
	v := onPage(list, next)
	v["reasons"] = reasons
	return as[openapi.ListLeftOut200JSONResponse](v, err)
}

func (s *server) GetStatistics(ctx context.Context, r openapi.GetStatisticsRequestObject) (openapi.GetStatisticsResponseObject, error) {
	v, err := s.cfg.Service.Statistics(ctx, r.Roster)
	return as[openapi.GetStatistics200JSONResponse](v, err)
}

func (s *server) CompareRosters(ctx context.Context, r openapi.CompareRostersRequestObject) (openapi.CompareRostersResponseObject, error) {
	v, err := s.cfg.Service.CompareRosters(ctx, r.Roster, service.Comparing{
		With: value(r.Params.With), Kind: string(value(r.Params.Kind)), Attribute: value(r.Params.Attribute), Page: page(ctx, r.Params.Q, r.Params.Cursor, r.Params.Limit),
	})
	return as[openapi.CompareRosters200JSONResponse](v, err)
}

func (s *server) ExportRoster(ctx context.Context, r openapi.ExportRosterRequestObject) (openapi.ExportRosterResponseObject, error) {
	p := r.Params
	e, err := s.cfg.Service.ExportRoster(ctx, caller(ctx), r.Roster, service.Exporting{
		Format: string(value(p.Format)), Columns: words(value(p.Columns)), Text: value(p.Q), Skip: value(p.Skip), First: value(p.First), Native: value(p.Native), People: value(p.Sheet),
	})
	return download{e, ctx}, err
}

func (s *server) GetTemplate(ctx context.Context, r openapi.GetTemplateRequestObject) (openapi.GetTemplateResponseObject, error) {
	e, err := s.cfg.Service.Template(ctx, r.Lane, string(value(r.Params.Format)))
	return download{e, ctx}, err
}

func (s *server) SurveyKeys(ctx context.Context, r openapi.SurveyKeysRequestObject) (openapi.SurveyKeysResponseObject, error) {
	v, err := s.cfg.Service.SurveyKeys(ctx, r.Params.Authority, r.Params.Downstream)
	return as[openapi.SurveyKeys200JSONResponse](v, err)
}

func words(list string) []string {
	return strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' })
}

// download is a file on its way to whoever asked. Should it break off, the
// connection does too: half a file never looks whole.
type download struct {
	service.Export
	ctx context.Context
}

func (d download) write(w http.ResponseWriter) error {
	leave, err := d.Open(d.ctx)
	if err != nil {
		return err
	}
	defer leave()
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": d.Name}))
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	if err := d.Write(w); err != nil {
		panic(http.ErrAbortHandler)
	}
	return nil
}

func (d download) VisitExportRosterResponse(w http.ResponseWriter) error   { return d.write(w) }
func (d download) VisitGetTemplateResponse(w http.ResponseWriter) error    { return d.write(w) }
func (d download) VisitExportReceiptsResponse(w http.ResponseWriter) error { return d.write(w) }
func (d download) VisitExportSheetResponse(w http.ResponseWriter) error    { return d.write(w) }
func (d download) VisitExportPlanResponse(w http.ResponseWriter) error     { return d.write(w) }
func (d download) VisitCollectSecretsResponse(w http.ResponseWriter) error { return d.write(w) }

func (s *server) ListTasks(ctx context.Context, r openapi.ListTasksRequestObject) (openapi.ListTasksResponseObject, error) {
	list, next, err := s.cfg.Service.Tasks(ctx, page(ctx, nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListTasks200JSONResponse](onPage(list, next), err)
}

func (s *server) GetTask(ctx context.Context, r openapi.GetTaskRequestObject) (openapi.GetTaskResponseObject, error) {
	t, err := s.cfg.Service.Task(ctx, r.Task)
	return as[openapi.GetTask200JSONResponse](t, err)
}

func (s *server) HaltTask(ctx context.Context, r openapi.HaltTaskRequestObject) (openapi.HaltTaskResponseObject, error) {
	t, err := s.cfg.Service.HaltTask(ctx, caller(ctx), r.Task)
	return as[openapi.HaltTask200JSONResponse](t, err)
}

func (s *server) GetTaskLog(ctx context.Context, r openapi.GetTaskLogRequestObject) (openapi.GetTaskLogResponseObject, error) {
	list, next, err := s.cfg.Service.TaskLog(ctx, r.Task, string(value(r.Params.Level)), page(ctx, nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.GetTaskLog200JSONResponse](onPage(list, next), err)
}

func (s *server) WatchTask(ctx context.Context, r openapi.WatchTaskRequestObject) (openapi.WatchTaskResponseObject, error) {
	if _, err := s.cfg.Service.Task(ctx, r.Task); err != nil {
		return nil, err
	}
	last := ""
	return stream{ctx, watchEvery, func() ([]service.Event, bool, error) {
		t, err := s.cfg.Service.Task(ctx, r.Task)
		if err != nil {
			return nil, true, err
		}
		text, err := json.Marshal(t)
		if err != nil || string(text) == last {
			return nil, t.Ended != nil, err
		}
		last = string(text)
		return []service.Event{{Kind: "task", Body: t}}, t.Ended != nil, nil
	}}, nil
}

func (s *server) WatchEvents(ctx context.Context, r openapi.WatchEventsRequestObject) (openapi.WatchEventsResponseObject, error) {
	after := int64(-1)
	for _, said := range []*int64{r.Params.After, r.Params.LastEventID} { // who comes back knows better than the address
		if said != nil {
			after = *said
		}
	}
	events, err := s.cfg.Service.Listen(ctx, after)
	if err != nil {
		return nil, err
	}
	until := time.Now().Add(listenLongest)
	return stream{ctx, listenEvery, func() ([]service.Event, bool, error) {
		list, err := events.Next(ctx)
		return list, time.Now().After(until), err
	}}, nil
}

func (s *server) GetFreeze(ctx context.Context, r openapi.GetFreezeRequestObject) (openapi.GetFreezeResponseObject, error) {
	w, err := s.cfg.Service.Freeze(ctx)
	return as[openapi.GetFreeze200JSONResponse](w, err)
}

func (s *server) SetFreeze(ctx context.Context, r openapi.SetFreezeRequestObject) (openapi.SetFreezeResponseObject, error) {
	w, err := s.cfg.Service.SetFreeze(ctx, caller(ctx), r.Body.On, value(r.Body.Reason))
	return as[openapi.SetFreeze200JSONResponse](w, err)
}

func (s *server) ListAudit(ctx context.Context, r openapi.ListAuditRequestObject) (openapi.ListAuditResponseObject, error) {
	list, next, err := s.cfg.Service.AuditTrail(ctx, page(ctx, nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListAudit200JSONResponse](onPage(list, next), err)
}

func (s *server) CheckAudit(ctx context.Context, r openapi.CheckAuditRequestObject) (openapi.CheckAuditResponseObject, error) {
	v, err := s.cfg.Service.CheckAudit(ctx, value(r.Params.Head))
	return as[openapi.CheckAudit200JSONResponse](v, err)
}

func (s *server) GetAuditHead(ctx context.Context, r openapi.GetAuditHeadRequestObject) (openapi.GetAuditHeadResponseObject, error) {
	head, err := s.cfg.Service.AuditHead(ctx)
	return openapi.GetAuditHead200JSONResponse{Head: head}, err
}
