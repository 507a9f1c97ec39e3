package api

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/internal/inventory"
)

func (s *Server) ListAttention(c *gin.Context, p openapi.ListAttentionParams) {
	l, next, err := s.work.Attention(c, inventory.AttentionPage{Cause: inventory.Cause(value(p.Cause)),
		Left: value(p.Left), After: value(p.After), Limit: value(p.Limit)})
	s.answerPage(c, l, next, err)
}

func (s *Server) CountAttention(c *gin.Context) {
	l, err := s.inv.AttentionCount(c)
	s.answer(c, http.StatusOK, l, err)
}

// leaveDays is how long something is left alone unless it is said.
const leaveDays = 30

func (s *Server) LeaveAlone(c *gin.Context) {
	if b, ok := body[openapi.LeaveAloneJSONRequestBody](s, c); ok {
		days := value(b.Days)
		if days == 0 {
			days = leaveDays
		}
		s.answer(c, http.StatusNoContent, nil, s.inv.Leave(c, b.Ids, b.Reason, time.Now().AddDate(0, 0, days),
			caller(c).Name))
	}
}

func (s *Server) Recognise(c *gin.Context) {
	b, ok := body[openapi.RecogniseJSONRequestBody](s, c)
	if !ok {
		return
	}
	k, err := s.inv.Copy(c, b.Copy)
	var parent *inventory.Copy
	var into *inventory.Lineage
	if err == nil && value(b.Of) != "" {
		var e error
		if parent, e = s.inv.Copy(c, *b.Of); e != nil {
			into, err = s.inv.LineageOf(c, *b.Of)
		}
	}
	if err == nil {
		err = s.inv.Settle(c, k, parent, into, caller(c).Name, value(b.Note))
	}
	if err == nil {
		k, err = s.inv.CopyByID(c, k.ID.String())
	}
	s.answer(c, http.StatusOK, k, err)
}

func (s *Server) Track(c *gin.Context) {
	b, ok := body[openapi.TrackJSONRequestBody](s, c)
	if !ok {
		return
	}
	list, err := s.inv.Selected(c, b.Copies, value(b.Where), lineage.Registered)
	if err == nil {
		err = s.inv.Track(c, list, b.Tracked, caller(c).Name, value(b.Note))
	}
	s.answer(c, http.StatusOK, gin.H{"copies": len(list)}, err)
}

func (s *Server) Compare(c *gin.Context, p openapi.CompareParams) {
	v, err := s.work.Compare(c, p.A, p.B, value(p.Exact))
	s.answer(c, http.StatusOK, v, err)
}
