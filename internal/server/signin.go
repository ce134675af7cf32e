package server

import (
	"context"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/internal/signin"
	"urgentis/internal/store"
)

// SetUp implements api.StrictServerInterface.
func (s *Server) SetUp(ctx context.Context, r api.SetUpRequestObject) (api.SetUpResponseObject, error) {
	p, err := s.App.SetUp(ctx, r.Body.Code, r.Body.Name, r.Body.Password)
	if err != nil {
		return nil, err
	}
	return api.SetUp201JSONResponse(apiPerson(*p)), nil
}

// GetSession implements api.StrictServerInterface.
func (s *Server) GetSession(ctx context.Context, _ api.GetSessionRequestObject) (api.GetSessionResponseObject, error) {
	return api.GetSession200JSONResponse(me(who(ctx))), nil
}

func me(p *access.Principal) api.Me {
	kind := api.MeKind("token")
	if p.Person {
		kind = "person"
	}
	return api.Me{Name: p.Name, Person: p.Behind(), Kind: kind, Roles: apiRoles(p.Roles), May: apiRoles(p.All())}
}

// SignIn implements api.StrictServerInterface.
func (s *Server) SignIn(ctx context.Context, r api.SignInRequestObject) (api.SignInResponseObject, error) {
	from := ""
	if c, ok := ctx.(*gin.Context); ok {
		from = c.ClientIP()
	}
	value, p, err := s.App.SignIn(ctx, r.Body.Name, r.Body.Password, from)
	if err != nil {
		return nil, err
	}
	return api.SignIn200JSONResponse{
		Body:    me(p),
		Headers: api.SignIn200ResponseHeaders{SetCookie: s.sessionCookie(value, signin.SessionTime)},
	}, nil
}

func (s *Server) sessionCookie(value string, life time.Duration) string {
	c := http.Cookie{
		Name:     cookie,
		Value:    value,
		Path:     "/",
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
		MaxAge:   int(life.Seconds()),
		Secure:   len(s.Link) > 8 && s.Link[:8] == "https://",
	}
	return c.String()
}

// SignOut implements api.StrictServerInterface.
func (s *Server) SignOut(ctx context.Context, _ api.SignOutRequestObject) (api.SignOutResponseObject, error) {
	if c, ok := ctx.(*gin.Context); ok {
		if v, err := c.Cookie(cookie); err == nil {
			if err := s.App.SignOut(ctx, v); err != nil {
				return nil, err
			}
		}
	}
	return api.SignOut204Response{
		Headers: api.SignOut204ResponseHeaders{SetCookie: s.sessionCookie("", -time.Second)},
	}, nil
}

// ListPeople implements api.StrictServerInterface.
func (s *Server) ListPeople(ctx context.Context, _ api.ListPeopleRequestObject) (api.ListPeopleResponseObject, error) {
	list, err := s.App.People(ctx, who(ctx))
	return api.ListPeople200JSONResponse(mapped(list, apiPerson)), err
}

// AddPerson implements api.StrictServerInterface.
func (s *Server) AddPerson(ctx context.Context, r api.AddPersonRequestObject) (api.AddPersonResponseObject, error) {
	p, err := s.App.SetPerson(ctx, who(ctx), r.Body.Name, r.Body.Password, accessRoles(r.Body.Roles))
	if err != nil {
		return nil, err
	}
	return api.AddPerson201JSONResponse(apiPerson(*p)), nil
}

// RemovePerson implements api.StrictServerInterface.
func (s *Server) RemovePerson(
	ctx context.Context,
	r api.RemovePersonRequestObject,
) (api.RemovePersonResponseObject, error) {
	return api.RemovePerson204Response{}, s.App.RemovePerson(ctx, who(ctx), r.Name)
}

// ListTokens implements api.StrictServerInterface.
func (s *Server) ListTokens(ctx context.Context, _ api.ListTokensRequestObject) (api.ListTokensResponseObject, error) {
	list, err := s.App.Tokens(ctx, who(ctx))
	return api.ListTokens200JSONResponse(mapped(list, func(t store.Token) api.Token {
		return api.Token{
			Name: t.Name, Roles: apiRoles(signin.Split(t.Roles)), MadeBy: t.MadeBy, ExpiresAt: t.ExpiresAt.UTC(),
			LastUsedAt: utc(t.LastUsedAt),
		}
	})), err
}

// AddToken implements api.StrictServerInterface.
func (s *Server) AddToken(ctx context.Context, r api.AddTokenRequestObject) (api.AddTokenResponseObject, error) {
	days := r.Body.Days
	if days == 0 {
		days = 365
	}
	value, end, err := s.App.AddToken(
		ctx,
		who(ctx),
		r.Body.Name,
		accessRoles(r.Body.Roles),
		time.Duration(days)*24*time.Hour,
	)
	return api.AddToken201JSONResponse{Name: r.Body.Name, Token: value, ExpiresAt: end}, err
}

// RemoveToken implements api.StrictServerInterface.
func (s *Server) RemoveToken(
	ctx context.Context,
	r api.RemoveTokenRequestObject,
) (api.RemoveTokenResponseObject, error) {
	return api.RemoveToken204Response{}, s.App.RemoveToken(ctx, who(ctx), r.Name)
}

// ListAudit implements api.StrictServerInterface.
func (s *Server) ListAudit(ctx context.Context, r api.ListAuditRequestObject) (api.ListAuditResponseObject, error) {
	before, err := readNumber(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	list, more, err := s.App.Acts(ctx, who(ctx), r.Params.Actor, before, limit(r.Params.Limit))
	out := api.ListAudit200JSONResponse{Items: mapped(list, func(a store.Act) api.Act {
		return api.Act{Id: a.ID, At: a.At.UTC(), Actor: a.Actor, Act: a.Act, Subject: a.Subject, Detail: a.Detail}
	})}
	out.Next = next(list, more, func(a store.Act) string { return cursor(a.At, itoa(a.ID)) })
	return out, err
}
