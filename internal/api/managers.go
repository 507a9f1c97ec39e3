package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away/foreign"
	"unvora.example/unvora/internal/work/away/peer"
)

func (s *Server) ListManagers(c *gin.Context) {
	l, err := s.inv.Managers(c)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) AddManager(c *gin.Context) {
	if b, ok := body[openapi.AddManager](s, c); ok {
		e := foreign.Entry{Name: b.Name, Address: b.Address, Account: value(b.Account), Password: value(b.Password),
			Token: value(b.Token), Trust: value(b.Trust)}
		m, err := s.work.AddManager(c, e, caller(c).Name)
		s.answer(c, http.StatusCreated, m, err)
	}
}

// managerDetail is a manager with what was fetched ahead from it.
type managerDetail struct {
	*inventory.Manager
	Ahead []inventory.AheadAt `json:"ahead"`
}

func (s *Server) GetManager(c *gin.Context, ref string) {
	m, err := s.inv.Manager(c, ref)
	var d managerDetail
	if err == nil {
		d.Manager = m
		d.Ahead, err = s.inv.AheadAt(c, m)
	}
	s.answer(c, http.StatusOK, d, err)
}

func (s *Server) GrantManager(c *gin.Context, ref string) {
	b, ok := body[openapi.Grants](s, c)
	if !ok {
		return
	}
	m, err := s.work.Peers.Grant(c, ref, asGrants(*b), caller(c).Name)
	s.answer(c, http.StatusOK, m, err)
}

func (s *Server) DropManager(c *gin.Context, ref string) {
	m, err := s.inv.Manager(c, ref)
	if err == nil {
		err = s.inv.DropManager(c, m, caller(c).Name)
	}
	s.answer(c, http.StatusNoContent, nil, err)
}

func (s *Server) CheckManager(c *gin.Context, ref string) {
	l, err := s.work.CheckManager(c, ref)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) OfferPairing(c *gin.Context) {
	p, err := s.work.Peers.Offer(c)
	s.answer(c, http.StatusCreated, p, err)
}

func (s *Server) PairManager(c *gin.Context) {
	if b, ok := body[openapi.PairManager](s, c); ok {
		e := peer.Entry{Name: b.Name, Address: b.Address, Code: b.Code, Grants: asGrants(value(b.Grants))}
		m, err := s.work.Pair(c, e, caller(c).Name)
		s.answer(c, http.StatusCreated, m, err)
	}
}

func asGrants(g openapi.Grants) peer.Grants {
	return peer.Grants{See: value(g.See), Take: value(g.Take)}
}
