package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/access"
	"unvora.example/unvora/internal/inventory"
)

// tellersOf is whose tellings the caller may deal with; nil for everybody's.
func tellersOf(c *gin.Context, all bool) *string {
	if all && caller(c).Role == access.Administrator {
		return nil
	}
	return &caller(c).Name
}

func (s *Server) ListTellings(c *gin.Context, p openapi.ListTellingsParams) {
	l, err := s.inv.Tellings(c, tellersOf(c, value(p.All)))
	if l == nil {
		l = []inventory.Telling{}
	}
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) AddTelling(c *gin.Context) {
	b, ok := body[openapi.AddTellingJSONRequestBody](s, c)
	if !ok {
		return
	}
	u := caller(c)
	if u.Role != access.Administrator && (value(b.All) || b.How == openapi.NewTellingHowCall) {
		s.problem(c, &notAllowed{u, access.Administrator})
		return
	}
	t := &inventory.Telling{User: u.Name, AddedBy: u.Name, How: string(b.How), Address: b.Address,
		LeastSeconds: value(b.LeastSeconds)}
	if value(b.All) {
		t.User = ""
	}
	for _, cause := range value(b.Causes) {
		t.Causes = append(t.Causes, string(cause))
	}
	secret, err := s.teller.Add(c, t)
	if err == nil {
		t, err = s.inv.OneTelling(c, t.ID.String(), nil)
	}
	s.answer(c, http.StatusCreated, gin.H{"telling": t, "secret": secret}, err)
}

func (s *Server) DropTelling(c *gin.Context, ref string) {
	t, err := s.inv.OneTelling(c, ref, tellersOf(c, true))
	if err == nil {
		err = s.inv.DropTelling(c, t, caller(c).Name)
	}
	s.answer(c, http.StatusNoContent, nil, err)
}

func (s *Server) TryTelling(c *gin.Context, ref string) {
	t, err := s.inv.OneTelling(c, ref, tellersOf(c, true))
	if err == nil {
		if e := s.teller.Try(c, t); e != nil {
			err = inventory.Refuse(inventory.CodeNotNow, "%s could not be told: %v.", t.Address, e)
		}
	}
	s.answer(c, http.StatusNoContent, nil, err)
}
