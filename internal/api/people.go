package api

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/access"
)

func (s *Server) SignIn(c *gin.Context) {
	b, ok := body[openapi.SignInJSONRequestBody](s, c)
	if !ok {
		return
	}
	cookie, session, err := s.access.SignIn(c, b.Name, b.Password, c.RemoteIP(), c.Request.UserAgent())
	if err != nil {
		s.problem(c, err)
		return
	}
	c.SetSameSite(http.SameSiteStrictMode)
	c.SetCookie(sessionCookie, cookie, int((12 * time.Hour).Seconds()), "/", "", c.Request.TLS != nil, true)
	s.answer(c, http.StatusOK, gin.H{"user": session.Name, "role": session.Role, "csrf": session.CSRF}, nil)
}

func (s *Server) GetSession(c *gin.Context) {
	u := caller(c)
	s.answer(c, http.StatusOK, gin.H{"user": u.Name, "role": u.Role, "csrf": c.GetString("csrf")}, nil)
}

func (s *Server) SignOut(c *gin.Context) {
	var err error
	if cookie, e := c.Cookie(sessionCookie); e == nil {
		err = s.access.SignOut(c, cookie)
	}
	c.SetCookie(sessionCookie, "", -1, "/", "", c.Request.TLS != nil, true)
	s.answer(c, http.StatusNoContent, nil, err)
}

func (s *Server) ListSessions(c *gin.Context, p openapi.ListSessionsParams) {
	cookie, _ := c.Cookie(sessionCookie)
	l, err := s.access.Sessions(c, caller(c), value(p.All), cookie)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) EndSession(c *gin.Context, ref string) {
	s.answer(c, http.StatusNoContent, nil, s.access.EndSession(c, caller(c), ref))
}

func (s *Server) ListTokens(c *gin.Context, p openapi.ListTokensParams) {
	whose := &caller(c).ID
	if value(p.All) && caller(c).Role == access.Administrator {
		whose = nil
	}
	l, err := s.inv.Tokens(c, whose)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) MakeToken(c *gin.Context) {
	b, ok := body[openapi.MakeTokenJSONRequestBody](s, c)
	if !ok {
		return
	}
	token, kept, err := s.access.MakeToken(c, caller(c), b.Name, value(b.Days), value(b.Endless))
	if err != nil {
		s.problem(c, err)
		return
	}
	s.answer(c, http.StatusCreated, gin.H{"token": token, "id": kept.ID, "expiresAt": kept.ExpiresAt}, nil)
}

func (s *Server) DropToken(c *gin.Context, ref string) {
	whose := &caller(c).ID
	if caller(c).Role == access.Administrator {
		whose = nil
	}
	s.answer(c, http.StatusNoContent, nil, s.inv.DropToken(c, ref, whose, caller(c).Name))
}

func (s *Server) ListUsers(c *gin.Context) {
	l, err := s.inv.Users(c)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) AddUser(c *gin.Context) {
	if b, ok := body[openapi.AddUserJSONRequestBody](s, c); ok {
		u, err := s.access.AddUser(c, b.Name, b.Password, string(b.Role), caller(c).Name)
		s.answer(c, http.StatusCreated, u, err)
	}
}

func (s *Server) ChangeUser(c *gin.Context, name string) {
	if b, ok := body[openapi.ChangeUserJSONRequestBody](s, c); ok {
		session, _ := c.Cookie(sessionCookie)
		u, err := s.access.Change(c, caller(c), name, string(value(b.Role)), value(b.Password), value(b.Current),
			session)
		s.answer(c, http.StatusOK, u, err)
	}
}

func (s *Server) DropUser(c *gin.Context, name string) {
	s.answer(c, http.StatusNoContent, nil, s.inv.DropUser(c, name, caller(c).Name))
}
