package httpapi

import (
	"context"
	"encoding/json"
	"strings"

	"twinning/internal/httpapi/openapi"
	"twinning/internal/service"
)

func (s *server) SignIn(ctx context.Context, r openapi.SignInRequestObject) (openapi.SignInResponseObject, error) {
	device, _ := ctx.Value(deviceKey{}).(string)
	in, err := s.cfg.Service.SignIn(ctx, service.SigningIn{Name: r.Body.Name, Password: r.Body.Password, Source: source(ctx), Device: device})
	if err != nil {
		return nil, err
	}
	return signedIn{s, in, me(in.Caller)}, nil
}

func (s *server) SignOut(ctx context.Context, r openapi.SignOutRequestObject) (openapi.SignOutResponseObject, error) {
	if secret, ok := ctx.Value(sessionKey{}).(string); ok {
		if err := s.cfg.Service.SignOut(ctx, caller(ctx), secret); err != nil {
			return nil, err
		}
	}
	return signedOut{s}, nil
}

func (s *server) ChangePassword(ctx context.Context, r openapi.ChangePasswordRequestObject) (openapi.ChangePasswordResponseObject, error) {
	session, _ := ctx.Value(sessionKey{}).(string)
	if err := s.cfg.Service.ChangePassword(ctx, caller(ctx), session, r.Body.Old, r.Body.Password); err != nil {
		return nil, err
	}
	return openapi.ChangePassword204Response{}, nil
}

func (s *server) GetMe(ctx context.Context, r openapi.GetMeRequestObject) (openapi.GetMeResponseObject, error) {
	return openapi.GetMe200JSONResponse(me(caller(ctx))), nil
}

func (s *server) ListUsers(ctx context.Context, r openapi.ListUsersRequestObject) (openapi.ListUsersResponseObject, error) {
	list, err := s.cfg.Service.Users(ctx)
	return as[openapi.ListUsers200JSONResponse](listed(list), err)
}

func granted(rights []openapi.Right, lanes *openapi.Lanes) service.Granted {
	g := service.Granted{Rights: texts(rights), Lanes: map[string][]string{}}
	for lane, list := range value(lanes) {
		g.Lanes[lane] = texts(list)
	}
	return g
}

func texts[T ~string](list []T) []string {
	out := make([]string, len(list))
	for i, x := range list {
		out[i] = string(x)
	}
	return out
}

func (s *server) CreateUser(ctx context.Context, r openapi.CreateUserRequestObject) (openapi.CreateUserResponseObject, error) {
	u, err := s.cfg.Service.AddUser(ctx, caller(ctx), r.Body.Name, granted(r.Body.Rights, r.Body.Lanes), value(r.Body.Password))
	return as[openapi.CreateUser201JSONResponse](u, err)
}

func (s *server) GetUser(ctx context.Context, r openapi.GetUserRequestObject) (openapi.GetUserResponseObject, error) {
	u, err := s.cfg.Service.User(ctx, r.User)
	return as[openapi.GetUser200JSONResponse](u, err)
}

func (s *server) SetRights(ctx context.Context, r openapi.SetRightsRequestObject) (openapi.SetRightsResponseObject, error) {
	g := granted(r.Body.Rights, r.Body.Lanes)
	if seen := value(r.Params.IfMatch); strings.TrimSpace(seen) != "*" {
		g.Seen = func(u service.User) bool {
			shown, err := as[openapi.User](u, nil)
			body, failed := json.Marshal(shown)
			return err == nil && failed == nil && has([]string{seen}, tagOf(append(body, '\n')))
		}
	}
	u, err := s.cfg.Service.SetRights(ctx, caller(ctx), r.User, g)
	return as[openapi.SetRights200JSONResponse](u, err)
}

func (s *server) ResetPassword(ctx context.Context, r openapi.ResetPasswordRequestObject) (openapi.ResetPasswordResponseObject, error) {
	password, err := s.cfg.Service.ResetPassword(ctx, caller(ctx), r.User)
	return openapi.ResetPassword201JSONResponse{Password: password}, err
}

func (s *server) ListTokens(ctx context.Context, r openapi.ListTokensRequestObject) (openapi.ListTokensResponseObject, error) {
	list, err := s.cfg.Service.Tokens(ctx, r.User)
	return as[openapi.ListTokens200JSONResponse](listed(list), err)
}

func (s *server) RemoveToken(ctx context.Context, r openapi.RemoveTokenRequestObject) (openapi.RemoveTokenResponseObject, error) {
	if err := s.cfg.Service.RemoveToken(ctx, caller(ctx), r.User, r.Token); err != nil {
		return nil, err
	}
	return openapi.RemoveToken204Response{}, nil
}

func (s *server) RemoveUser(ctx context.Context, r openapi.RemoveUserRequestObject) (openapi.RemoveUserResponseObject, error) {
	if err := s.cfg.Service.RemoveUser(ctx, caller(ctx), r.User); err != nil {
		return nil, err
	}
	return openapi.RemoveUser204Response{}, nil
}

func (s *server) CreateToken(ctx context.Context, r openapi.CreateTokenRequestObject) (openapi.CreateTokenResponseObject, error) {
	secret, t, err := s.cfg.Service.AddToken(ctx, caller(ctx), r.User, r.Body.Name, value(r.Body.Days))
	return openapi.CreateToken201JSONResponse{Id: t.ID, Name: t.Name, Secret: secret, Expires: t.Expires}, err
}

func (s *server) ListSystems(ctx context.Context, r openapi.ListSystemsRequestObject) (openapi.ListSystemsResponseObject, error) {
	list, err := s.cfg.Service.Systems(ctx)
	return as[openapi.ListSystems200JSONResponse](listed(list), err)
}

func (s *server) GetSystem(ctx context.Context, r openapi.GetSystemRequestObject) (openapi.GetSystemResponseObject, error) {
	x, err := s.cfg.Service.System(ctx, r.System)
	body, err := as[openapi.System](x, err)
	return versioned[openapi.System]{body, x.Version}, err
}

func (s *server) ListSystemKinds(context.Context, openapi.ListSystemKindsRequestObject) (openapi.ListSystemKindsResponseObject, error) {
	return as[openapi.ListSystemKinds200JSONResponse](listed(s.cfg.Service.SystemKinds()), nil)
}

func (s *server) PutSystem(ctx context.Context, r openapi.PutSystemRequestObject) (openapi.PutSystemResponseObject, error) {
	x := service.System{Name: r.System, Kind: string(r.Body.Kind), Shape: value(r.Body.Shape), AtOnce: value(r.Body.AtOnce), PerSecond: float64(value(r.Body.PerSecond)), KeepDays: value(r.Body.KeepDays), Namespace: value(r.Body.Namespace), Title: value(r.Body.Title), SecretUntil: value(dayText(r.Body.SecretUntil))}
	x.Settings.V = value(r.Body.Settings)
	version, err := ifMatch(r.Params.IfMatch, service.MustBeNew, 0)
	if err != nil {
		return nil, err
	}
	v, err := s.cfg.Service.PutSystem(ctx, caller(ctx), x, service.Putting{Secret: r.Body.Secret, Version: version, SameRecords: value(r.Params.SameRecords)})
	return as[openapi.PutSystem200JSONResponse](v, err)
}

func (s *server) RemoveSystem(ctx context.Context, r openapi.RemoveSystemRequestObject) (openapi.RemoveSystemResponseObject, error) {
	if err := s.cfg.Service.RemoveSystem(ctx, caller(ctx), r.System); err != nil {
		return nil, err
	}
	return openapi.RemoveSystem204Response{}, nil
}

func (s *server) SetWriting(ctx context.Context, r openapi.SetWritingRequestObject) (openapi.SetWritingResponseObject, error) {
	version, err := ifMatch(r.Params.IfMatch, 0, 0)
	if err != nil {
		return nil, err
	}
	v, err := s.cfg.Service.SetWriting(ctx, caller(ctx), r.System, r.Body.On, version)
	return as[openapi.SetWriting200JSONResponse](v, err)
}

func (s *server) ProbeSystem(ctx context.Context, r openapi.ProbeSystemRequestObject) (openapi.ProbeSystemResponseObject, error) {
	v, err := s.cfg.Service.Probe(ctx, caller(ctx), r.System)
	return as[openapi.ProbeSystem200JSONResponse](v, err)
}

func (s *server) SendFile(ctx context.Context, r openapi.SendFileRequestObject) (openapi.SendFileResponseObject, error) {
	file, err := s.cfg.Service.SendFile(ctx, caller(ctx), r.System, r.Body)
	return openapi.SendFile201JSONResponse{File: file}, err
}

func (s *server) PreviewSystem(ctx context.Context, r openapi.PreviewSystemRequestObject) (openapi.PreviewSystemResponseObject, error) {
	v, err := s.cfg.Service.Preview(ctx, caller(ctx), r.System, service.Looking{
		File: value(r.Body.File), Shape: value(r.Body.Shape), Settings: value(r.Body.Settings), Picks: value(r.Body.Picks), ID: value(r.Body.Id), True: value(r.Body.TrueWords), Skip: value(r.Body.Skip), First: value(r.Body.First),
	})
	return as[openapi.PreviewSystem200JSONResponse](v, err)
}

func (s *server) GetRecordHistory(ctx context.Context, r openapi.GetRecordHistoryRequestObject) (openapi.GetRecordHistoryResponseObject, error) {
	v, err := s.cfg.Service.History(ctx, r.System, r.Params.Id, value(r.Params.At))
	return as[openapi.GetRecordHistory200JSONResponse](v, err)
}
