package httpapi

import (
	"context"

	"twinning/internal/httpapi/openapi"
)

func (s *server) ListRosters(ctx context.Context, r openapi.ListRostersRequestObject) (openapi.ListRostersResponseObject, error) {
	list, next, err := s.cfg.Service.Rosters(ctx, r.System, page(nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListRosters200JSONResponse](onPage(list, next), err)
}

func (s *server) TakeRoster(ctx context.Context, r openapi.TakeRosterRequestObject) (openapi.TakeRosterResponseObject, error) {
	t, err := s.cfg.Service.TakeRoster(ctx, caller(ctx), r.System, r.Body)
	return as[openapi.TakeRoster202JSONResponse](t, err)
}

func (s *server) GetRoster(ctx context.Context, r openapi.GetRosterRequestObject) (openapi.GetRosterResponseObject, error) {
	x, err := s.cfg.Service.Roster(ctx, r.Roster)
	return as[openapi.GetRoster200JSONResponse](x, err)
}

func (s *server) ListRecords(ctx context.Context, r openapi.ListRecordsRequestObject) (openapi.ListRecordsResponseObject, error) {
	list, next, total, err := s.cfg.Service.Records(ctx, r.Roster, page(r.Params.Q, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListRecords200JSONResponse](counted(list, next, total), err)
}

func (s *server) ListRejections(ctx context.Context, r openapi.ListRejectionsRequestObject) (openapi.ListRejectionsResponseObject, error) {
	list, next, err := s.cfg.Service.Rejections(ctx, r.Roster, page(nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListRejections200JSONResponse](onPage(list, next), err)
}

func (s *server) ListTasks(ctx context.Context, r openapi.ListTasksRequestObject) (openapi.ListTasksResponseObject, error) {
	list, next, err := s.cfg.Service.Tasks(ctx, page(nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListTasks200JSONResponse](onPage(list, next), err)
}

func (s *server) GetTask(ctx context.Context, r openapi.GetTaskRequestObject) (openapi.GetTaskResponseObject, error) {
	t, err := s.cfg.Service.Task(ctx, r.Task)
	return as[openapi.GetTask200JSONResponse](t, err)
}

func (s *server) GetTaskLog(ctx context.Context, r openapi.GetTaskLogRequestObject) (openapi.GetTaskLogResponseObject, error) {
	list, next, err := s.cfg.Service.TaskLog(ctx, r.Task, value(r.Params.Level), page(nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.GetTaskLog200JSONResponse](onPage(list, next), err)
}

func (s *server) WatchTask(ctx context.Context, r openapi.WatchTaskRequestObject) (openapi.WatchTaskResponseObject, error) {
	if _, err := s.cfg.Service.Task(ctx, r.Task); err != nil {
		return nil, err
	}
	return watch{ctx, s.cfg.Service, r.Task}, nil
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
	list, next, err := s.cfg.Service.AuditTrail(ctx, page(nil, r.Params.Cursor, r.Params.Limit))
	return as[openapi.ListAudit200JSONResponse](onPage(list, next), err)
}

func (s *server) CheckAudit(ctx context.Context, r openapi.CheckAuditRequestObject) (openapi.CheckAuditResponseObject, error) {
	v, err := s.cfg.Service.CheckAudit(ctx)
	return as[openapi.CheckAudit200JSONResponse](v, err)
}
