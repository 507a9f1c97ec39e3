package api

import (
	"encoding/json"
	"net/http"

	"github.com/gin-gonic/gin"

	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work"
)

func (s *Server) ListManagers(c *gin.Context) {
	l, err := s.inv.Managers(c)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) AddManager(c *gin.Context) {
	if b, ok := body[work.ManagerEntry](s, c); ok {
		m, err := s.work.AddManager(c, *b, caller(c).Name)
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
	b, ok := body[work.Grants](s, c)
	if !ok {
		return
	}
	m, err := s.work.Grant(c, ref, *b, caller(c).Name)
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
	p, err := s.work.OfferPairing(c)
	s.answer(c, http.StatusCreated, p, err)
}

func (s *Server) PairManager(c *gin.Context) {
	type request struct {
		Name    string          `json:"name"`
		Address string          `json:"address"`
		Code    string          `json:"code"`
		Grants  json.RawMessage `json:"grants"`
	}
	b, ok := body[request](s, c)
	if !ok {
		return
	}
	var g work.Grants
	if len(b.Grants) > 0 {
		if err := json.Unmarshal(b.Grants, &g); err != nil {
			s.problem(c, &inventory.Error{Code: "wrong", Message: "The grants can't be read: " + err.Error() + "."})
			return
		}
	}
	m, err := s.work.Pair(c, b.Name, b.Address, b.Code, g, caller(c).Name)
	s.answer(c, http.StatusCreated, m, err)
}
