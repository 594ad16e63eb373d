package api

import (
	"context"
	"net/http"
	"runtime"
	"time"

	"github.com/gin-gonic/gin"

	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
	"dustyferry/internal/secret"
)

// calls implements the contract's server interface.
type calls struct{ *Server }

var _ contract.StrictServerInterface = (*calls)(nil)

func (s *calls) GetVersion(context.Context, contract.GetVersionRequestObject) (contract.GetVersionResponseObject, error) {
	return contract.GetVersion200JSONResponse{Version: s.Version, Build: s.Build, Go: runtime.Version()}, nil
}

func (s *calls) SignIn(ctx context.Context, r contract.SignInRequestObject) (contract.SignInResponseObject, error) {
	t, err := s.Store.TokenByHash(ctx, secret.HashToken(r.Body.Token))
	if err != nil {
		return nil, err
	}
	if t == nil {
		time.Sleep(300 * time.Millisecond) // guessing shall not be quick
		return nil, domain.Forbidden("this token is not known; paste it whole, or ask an admin for a new one")
	}
	session, hash := secret.NewToken()
	until := time.Now().Add(sessionLength)
	if err := s.Store.AddSession(ctx, hash, t.ID, until); err != nil {
		return nil, err
	}
	s.Voyage.Say(ctx, "info", t.Name, "", "", "sign in", "%s signed in to the console", t.Name)
	cookie := (&http.Cookie{Name: cookieName, Value: session, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Expires: until, Secure: secure(ctx)}).String()
	return contract.SignIn200JSONResponse{Body: contract.Session{Name: t.Name, Role: contract.Role(t.Role)},
		Headers: contract.SignIn200ResponseHeaders{SetCookie: &cookie}}, nil
}

func secure(ctx context.Context) bool {
	g, ok := ctx.(*gin.Context)
	return ok && g.Request.TLS != nil
}

func (s *calls) GetSession(ctx context.Context, _ contract.GetSessionRequestObject) (contract.GetSessionResponseObject, error) {
	t := who(ctx)
	return contract.GetSession200JSONResponse{Name: t.Name, Role: contract.Role(t.Role)}, nil
}

func (s *calls) SignOut(ctx context.Context, _ contract.SignOutRequestObject) (contract.SignOutResponseObject, error) {
	if g, ok := ctx.(*gin.Context); ok {
		if cookie, err := g.Cookie(cookieName); err == nil {
			if err := s.Store.EndSession(ctx, secret.HashToken(cookie)); err != nil {
				return nil, err
			}
		}
	}
	gone := (&http.Cookie{Name: cookieName, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: -1}).String()
	return contract.SignOut204Response{Headers: contract.SignOut204ResponseHeaders{SetCookie: &gone}}, nil
}

func (s *calls) ListTokens(ctx context.Context, _ contract.ListTokensRequestObject) (contract.ListTokensResponseObject, error) {
	rows, err := s.Store.Tokens(ctx)
	out := contract.ListTokens200JSONResponse{}
	for _, t := range rows {
		out = append(out, contract.Token{Name: t.Name, Role: contract.Role(t.Role), CreatedAt: t.CreatedAt, UsedAt: stamp(t.UsedAt)})
	}
	return out, err
}

func (s *calls) AddToken(ctx context.Context, r contract.AddTokenRequestObject) (contract.AddTokenResponseObject, error) {
	if err := domain.ValidName(r.Body.Name); err != nil {
		return nil, err
	}
	if !r.Body.Role.Valid() {
		return nil, domain.Invalid("the role is %q; choose viewer, operator or admin", r.Body.Role)
	}
	token, hash := secret.NewToken()
	if err := s.Store.AddToken(ctx, r.Body.Name, string(r.Body.Role), hash); err != nil {
		return nil, err
	}
	s.Voyage.Say(ctx, "info", who(ctx).Name, "", r.Body.Name, "token", "%s made the token %s (%s)", who(ctx).Name, r.Body.Name, r.Body.Role)
	return contract.AddToken201JSONResponse{Name: r.Body.Name, Role: r.Body.Role, Token: &token, CreatedAt: time.Now()}, nil
}

func (s *calls) RemoveToken(ctx context.Context, r contract.RemoveTokenRequestObject) (contract.RemoveTokenResponseObject, error) {
	if err := s.Store.RemoveToken(ctx, r.Name); err != nil {
		return nil, err
	}
	s.Voyage.Say(ctx, "info", who(ctx).Name, "", r.Name, "token", "%s revoked the token %s", who(ctx).Name, r.Name)
	return contract.RemoveToken204Response{}, nil
}

func (s *calls) ListWorkers(ctx context.Context, _ contract.ListWorkersRequestObject) (contract.ListWorkersResponseObject, error) {
	rows, err := s.Store.Workers(ctx)
	out := contract.ListWorkers200JSONResponse{}
	for _, w := range rows {
		out = append(out, contract.Worker{Name: w.Name, Host: w.Host, Pid: w.PID, Version: w.Version, Labels: notNil(w.Labels.V), Lanes: w.Lanes, Streams: w.Streams,
			StartedAt: w.StartedAt, SeenAt: w.SeenAt})
	}
	return out, err
}
