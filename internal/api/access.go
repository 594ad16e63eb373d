package api

import (
	"context"
	"net/http"
	"runtime"
	"time"

	"github.com/gin-gonic/gin"

	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
	"dustyferry/internal/secret"
)

// calls implements the contract's server interface.
type calls struct{ *Server }

var _ contract.StrictServerInterface = (*calls)(nil)

func (s *calls) GetVersion(context.Context, contract.GetVersionRequestObject) (contract.GetVersionResponseObject,
	error) {
	return contract.GetVersion200JSONResponse{Version: s.Version, Build: s.Build, Go: runtime.Version()}, nil
}

func (s *calls) SignIn(ctx context.Context, r contract.SignInRequestObject) (contract.SignInResponseObject, error) {
	g, ok := ctx.(*gin.Context)
	if !ok {
		return nil, domain.Invalid("a sign-in needs a request of its own")
	}
	if !s.sameOrigin(g) {
		return nil, nil
	}
	t, err := s.Store.TokenByHash(ctx, secret.HashToken(r.Body.Token))
	if err != nil {
		return nil, err
	}
	if t == nil {
		from := addressOf(g.Request)
		if !s.limits.address(g.Request).failed.Allow() {
			return nil, &tooMany{"too many sign-ins from your address failed; wait a while", failedWait}
		}
		s.refuse(ctx, "nobody", "", "sign in", "sign-in "+from, "a sign-in from %s with an unknown token was refused", from)
		time.Sleep(300 * time.Millisecond) // guessing shall not be quick
		return nil, domain.Forbidden("this token is not known; paste it whole, or ask an admin for a new one")
	}
	if t.Role == roleGateway {
		return nil, domain.Forbidden("this token is a gateway's, which is good for nothing else; sign in with your own")
	}
	session, hash := secret.NewToken()
	until := time.Now().Add(sessionLength)
	if err := s.Store.AddSession(ctx, hash, t.ID, until); err != nil {
		return nil, err
	}
	s.Voyage.Recordf(ctx, "info", t.Name, "", "", "sign in", "%s signed in to the console from %s", t.Name,
		addressOf(g.Request))
	cookie := (&http.Cookie{Name: sessionCookie(g.Request), Value: session, Path: "/", HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
		Expires:  until, Secure: g.Request.TLS != nil}).String()
	return contract.SignIn200JSONResponse{Body: sessionOut(t), Headers: contract.SignIn200ResponseHeaders{
		SetCookie: &cookie}}, nil
}

func sessionOut(t *records.Token) contract.Session {
	return contract.Session{Name: t.Name, Role: contract.Role(t.Role), SeeRows: t.MaySeeRows()}
}

func (s *calls) GetSession(ctx context.Context,
	_ contract.GetSessionRequestObject) (contract.GetSessionResponseObject, error) {
	return contract.GetSession200JSONResponse(sessionOut(who(ctx))), nil
}

func (s *calls) SignOut(ctx context.Context, _ contract.SignOutRequestObject) (contract.SignOutResponseObject, error) {
	g, ok := ctx.(*gin.Context)
	if !ok {
		return nil, domain.Invalid("a sign-out needs a request of its own")
	}
	name := sessionCookie(g.Request)
	if cookie, err := g.Cookie(name); err == nil {
		if err := s.Store.EndSession(ctx, secret.HashToken(cookie)); err != nil {
			return nil, err
		}
	}
	gone := (&http.Cookie{Name: name, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: -1,
		Secure: g.Request.TLS != nil}).String()
	return contract.SignOut204Response{Headers: contract.SignOut204ResponseHeaders{SetCookie: &gone}}, nil
}

func (s *calls) ListTokens(ctx context.Context,
	_ contract.ListTokensRequestObject) (contract.ListTokensResponseObject, error) {
	rows, err := s.Store.Tokens(ctx)
	out := contract.ListTokens200JSONResponse{}
	for _, t := range rows {
		out = append(out, contract.Token{Name: t.Name, Role: contract.Role(t.Role), SeeRows: t.MaySeeRows(),
			CreatedAt: t.CreatedAt, UsedAt: t.UsedAt})
	}
	return out, err
}

func (s *calls) AddToken(ctx context.Context,
	r contract.AddTokenRequestObject) (contract.AddTokenResponseObject, error) {
	if err := domain.ValidName(r.Body.Name); err != nil {
		return nil, err
	}
	rows := r.Body.Role == contract.RoleOperator || r.Body.Role == contract.RoleAdmin
	if r.Body.SeeRows != nil && r.Body.Role != contract.RoleGateway { // which shows none
		if rows = *r.Body.SeeRows; !rows && r.Body.Role == contract.RoleAdmin {
			return nil, domain.Invalid("see_rows is false, and admins always may see rows; choose the role operator or viewer")
		}
	}
	token, hash := secret.NewToken()
	if err := s.Store.AddToken(ctx, r.Body.Name, string(r.Body.Role), rows, hash); err != nil {
		return nil, err
	}
	s.Voyage.Recordf(ctx, "info", who(ctx).Name, "", r.Body.Name, "token", "%s made the token %s (%s, %s)", who(ctx).Name,
		r.Body.Name, r.Body.Role,
		map[bool]string{true: "may see rows", false: "may not see rows"}[rows])
	return contract.AddToken201JSONResponse{Name: r.Body.Name, Role: r.Body.Role, SeeRows: rows, Token: &token,
		CreatedAt: time.Now()}, nil
}

func (s *calls) RemoveToken(ctx context.Context,
	r contract.RemoveTokenRequestObject) (contract.RemoveTokenResponseObject, error) {
	if err := domain.Confirmed(text(r.Params.Confirm), r.Name, "revoking the token "+r.Name); err != nil {
		return nil, err
	}
	if err := s.Store.RemoveToken(ctx, r.Name); err != nil {
		return nil, err
	}
	s.Voyage.Recordf(ctx, "info", who(ctx).Name, "", r.Name, "token", "%s revoked the token %s", who(ctx).Name, r.Name)
	return contract.RemoveToken204Response{}, nil
}

func (s *calls) ListWorkers(ctx context.Context,
	_ contract.ListWorkersRequestObject) (contract.ListWorkersResponseObject, error) {
	rows, err := s.Store.Workers(ctx)
	out := contract.ListWorkers200JSONResponse{}
	for _, w := range rows {
		out = append(out, contract.Worker{Name: w.Name, Host: w.Host, Pid: w.PID, Version: w.Version,
			Labels: notNil(w.Labels.V), Lanes: w.Lanes, Streams: w.Streams,
			StartedAt: w.StartedAt, SeenAt: w.SeenAt})
	}
	return out, err
}
