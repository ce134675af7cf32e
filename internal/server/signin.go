package server

import (
	"context"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"gorm.io/gorm"

	"urgentis/api"
	"urgentis/internal/access"
	"urgentis/internal/store"
)

// SetUp implements api.StrictServerInterface.
func (s *Server) SetUp(ctx context.Context, r api.SetUpRequestObject) (api.SetUpResponseObject, error) {
	p, err := s.Access.SetUp(ctx, r.Body.Code, r.Body.Name, r.Body.Password)
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
	return api.Me{Name: p.Name, Kind: kind, Roles: apiRoles(p.Roles)}
}

// SignIn implements api.StrictServerInterface.
func (s *Server) SignIn(ctx context.Context, r api.SignInRequestObject) (api.SignInResponseObject, error) {
	from := ""
	if c, ok := ctx.(*gin.Context); ok {
		from = c.ClientIP()
	}
	value, p, err := s.Access.SignIn(ctx, r.Body.Name, r.Body.Password, from)
	if err != nil {
		return nil, err
	}
	return api.SignIn200JSONResponse{Body: me(p), Headers: api.SignIn200ResponseHeaders{SetCookie: s.sessionCookie(value, access.SessionTime)}}, nil
}

func (s *Server) sessionCookie(value string, life time.Duration) string {
	c := http.Cookie{Name: cookie, Value: value, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: int(life.Seconds()), Secure: len(s.Link) > 8 && s.Link[:8] == "https://"}
	return c.String()
}

// SignOut implements api.StrictServerInterface.
func (s *Server) SignOut(ctx context.Context, _ api.SignOutRequestObject) (api.SignOutResponseObject, error) {
	if c, ok := ctx.(*gin.Context); ok {
		if v, err := c.Cookie(cookie); err == nil {
			if err := s.Access.SignOut(ctx, v); err != nil {
				return nil, err
			}
		}
	}
	return api.SignOut204Response{Headers: api.SignOut204ResponseHeaders{SetCookie: s.sessionCookie("", -time.Second)}}, nil
}

// ListPeople implements api.StrictServerInterface.
func (s *Server) ListPeople(ctx context.Context, _ api.ListPeopleRequestObject) (api.ListPeopleResponseObject, error) {
	var rows []store.Person
	err := s.Store.DB.WithContext(ctx).Order("name").Find(&rows).Error
	return api.ListPeople200JSONResponse(mapped(rows, apiPerson)), err
}

// AddPerson implements api.StrictServerInterface.
func (s *Server) AddPerson(ctx context.Context, r api.AddPersonRequestObject) (api.AddPersonResponseObject, error) {
	p, err := s.Access.AddPerson(ctx, r.Body.Name, r.Body.Password, accessRoles(r.Body.Roles), who(ctx).Name)
	if err != nil {
		return nil, err
	}
	return api.AddPerson201JSONResponse(apiPerson(*p)), nil
}

// RemovePerson implements api.StrictServerInterface.
func (s *Server) RemovePerson(ctx context.Context, r api.RemovePersonRequestObject) (api.RemovePersonResponseObject, error) {
	if r.Name == who(ctx).Behind() {
		return nil, bad("yourself", "nobody can remove themselves")
	}
	_, err := s.Access.RemovePerson(ctx, r.Name, who(ctx).Name)
	return api.RemovePerson204Response{}, err
}

// remove deletes a row by its name and writes that down.
func (s *Server) remove(ctx context.Context, row any, noun, name string) error {
	return s.Store.Tx(ctx, func(tx *gorm.DB) error {
		res := tx.Where("name = ?", name).Delete(row)
		if res.Error != nil {
			return res.Error
		}
		if res.RowsAffected == 0 {
			return store.ErrNotFound
		}
		return store.Audit(tx, who(ctx).Name, noun+".remove", name, "")
	})
}

// ListTokens implements api.StrictServerInterface.
func (s *Server) ListTokens(ctx context.Context, _ api.ListTokensRequestObject) (api.ListTokensResponseObject, error) {
	var rows []store.Token
	err := s.Store.DB.WithContext(ctx).Order("name").Find(&rows).Error
	return api.ListTokens200JSONResponse(mapped(rows, func(t store.Token) api.Token {
		return api.Token{Name: t.Name, Roles: apiRoles(access.Split(t.Roles)), MadeBy: t.MadeBy, ExpiresAt: t.ExpiresAt.UTC(), LastUsedAt: utc(t.LastUsedAt)}
	})), err
}

// AddToken implements api.StrictServerInterface.
func (s *Server) AddToken(ctx context.Context, r api.AddTokenRequestObject) (api.AddTokenResponseObject, error) {
	days := r.Body.Days
	if days == 0 {
		days = 365
	}
	value, end, err := s.Access.AddToken(ctx, r.Body.Name, accessRoles(r.Body.Roles), time.Duration(days)*24*time.Hour, who(ctx).Behind())
	if err != nil {
		return nil, err
	}
	return api.AddToken201JSONResponse{Name: r.Body.Name, Token: value, ExpiresAt: end}, nil
}

// RemoveToken implements api.StrictServerInterface.
func (s *Server) RemoveToken(ctx context.Context, r api.RemoveTokenRequestObject) (api.RemoveTokenResponseObject, error) {
	return api.RemoveToken204Response{}, s.remove(ctx, &store.Token{}, "token", r.Name)
}

// ListAudit implements api.StrictServerInterface.
func (s *Server) ListAudit(ctx context.Context, r api.ListAuditRequestObject) (api.ListAuditResponseObject, error) {
	q := s.Store.DB.WithContext(ctx).Order("id desc").Limit(limit(r.Params.Limit) + 1)
	if r.Params.Cursor != "" {
		_, id, err := readCursor(r.Params.Cursor)
		if err != nil {
			return nil, err
		}
		q = q.Where("id < ?::text::bigint", id)
	}
	var rows []store.Act
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := api.ListAudit200JSONResponse{}
	rows, out.Next = page(rows, limit(r.Params.Limit), func(a store.Act) string { return cursor(a.At, itoa(a.ID)) })
	out.Items = mapped(rows, func(a store.Act) api.Act {
		return api.Act{Id: a.ID, At: a.At.UTC(), Actor: a.Actor, Act: a.Act, Subject: a.Subject, Detail: a.Detail}
	})
	return out, nil
}

// page cuts a list that was read with one row too many, and gives the cursor of what follows.
func page[T any](rows []T, n int, at func(T) string) ([]T, string) {
	if len(rows) <= n {
		return rows, ""
	}
	return rows[:n], at(rows[n-1])
}
