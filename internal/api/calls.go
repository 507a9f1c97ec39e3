package api

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/landing"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/inventory"
)

func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

func page(limit *int, after, filter *string) inventory.Page {
	if limit != nil && *limit == 0 {
		limit = nil
	}
	return inventory.Page{Limit: value(limit), After: value(after), Filter: value(filter)}
}

// ListHosts, and the lists that follow, answer a page.
func (s *Server) ListHosts(c *gin.Context, p openapi.ListHostsParams) {
	l, err := s.inv.Hosts(c, page(p.Limit, p.After, p.Filter))
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) ListPools(c *gin.Context, p openapi.ListPoolsParams) {
	l, err := s.inv.Pools(c, page(p.Limit, p.After, p.Filter))
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) ListCopies(c *gin.Context, p openapi.ListCopiesParams) {
	at := page(p.Limit, p.After, p.Filter)
	at.Order = value(p.Order)
	l, err := s.inv.Copies(c, at)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) ListLineages(c *gin.Context, p openapi.ListLineagesParams) {
	l, err := s.inv.Lineages(c, page(p.Limit, p.After, p.Filter))
	s.answer(c, http.StatusOK, l, err)
}

// answerPage answers with a page of a list, and a header that leads to the next.
func (s *Server) answerPage(c *gin.Context, list any, next string, err error) {
	if next != "" {
		c.Header("Unvora-Next", next)
	}
	s.answer(c, http.StatusOK, list, err)
}

func (s *Server) ListShelves(c *gin.Context, p openapi.ListShelvesParams) {
	if p.Name == nil {
		l, next, err := s.inv.Shelves(c, value(p.After), value(p.Limit))
		s.answerPage(c, l, next, err)
		return
	}
	one, err := s.inv.Shelf(c, *p.Name)
	l := []inventory.Shelf{}
	if one != nil {
		l = append(l, *one)
	}
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) ListSwitches(c *gin.Context, p openapi.ListSwitchesParams) {
	name := value(p.Host)
	if name == "" {
		l, next, err := s.inv.AllSwitches(c, value(p.After), value(p.Limit))
		s.answerPage(c, l, next, err)
		return
	}
	h, err := s.inv.Host(c, name)
	if err != nil {
		s.problem(c, err)
		return
	}
	l, err := s.inv.Switches(c, h.ID)
	s.answer(c, http.StatusOK, l, err)
}

// hostDetail is a host with what belongs to it.
type hostDetail struct {
	*inventory.Host
	Pools    []inventory.Pool       `json:"pools"`
	Switches []inventory.Switch     `json:"switches"`
	Shelves  []inventory.Shelf      `json:"shelves"`
	On       []inventory.OnSwitches `json:"on"`       // machines with NICs on its switches
	Promised []inventory.Promise    `json:"promised"` // by how much disks in its pools may still grow
}

func (s *Server) GetHost(c *gin.Context, ref string) {
	h, err := s.inv.Host(c, ref)
	if err != nil {
		s.problem(c, err)
		return
	}
	d := hostDetail{Host: h}
	if d.Pools, err = s.inv.HostPools(c, h.ID); err == nil {
		if d.Switches, err = s.inv.Switches(c, h.ID); err == nil {
			d.Shelves, err = s.inv.ShelvesOf(c, h.ID)
		}
	}
	if err == nil {
		d.On, err = s.inv.OnAllSwitches(c, h.ID)
	}
	if err == nil {
		d.Promised, err = s.inv.Promised(c, h.ID)
	}
	s.answer(c, http.StatusOK, d, err)
}

func (s *Server) AddHost(c *gin.Context) {
	if b, ok := body[openapi.AddHost](s, c); ok {
		h, err := s.work.AddHost(c, b.Address, b.Code, caller(c).Name)
		s.answer(c, http.StatusCreated, h, err)
	}
}

func (s *Server) RestHost(c *gin.Context, ref string) {
	b, ok := body[openapi.RestHostJSONRequestBody](s, c)
	if !ok {
		return
	}
	h, err := s.inv.Host(c, ref)
	if err == nil {
		if err = s.inv.RestHost(c, h, b.Resting, caller(c).Name); err == nil {
			h, err = s.inv.Host(c, ref)
		}
	}
	s.answer(c, http.StatusOK, h, err)
}

func (s *Server) DropHost(c *gin.Context, ref string) {
	h, err := s.inv.Host(c, ref)
	if err == nil {
		err = s.inv.DropHost(c, h, caller(c).Name)
	}
	s.answer(c, http.StatusNoContent, nil, err)
}

func (s *Server) CheckHost(c *gin.Context, ref string) {
	l, err := s.work.CheckHost(c, ref)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) ReadmitHost(c *gin.Context, ref string) {
	if b, ok := body[openapi.ReadmitHostJSONRequestBody](s, c); ok {
		h, err := s.work.Readmit(c, ref, value(b.Address), b.Code, caller(c).Name)
		s.answer(c, http.StatusOK, h, err)
	}
}

func (s *Server) SetPool(c *gin.Context, q openapi.SetPoolParams) {
	b, ok := body[openapi.SetPoolJSONRequestBody](s, c)
	if !ok {
		return
	}
	p, err := s.inv.PoolOf(c, q.Pool)
	who := caller(c).Name
	if err == nil && b.Resting != nil && *b.Resting {
		err = s.work.Rest(c, p, who)
	} else if err == nil && b.Resting != nil {
		err = s.inv.RestPool(c, p, false, who)
	}
	if err == nil && b.Labels != nil {
		err = s.work.Label(c, p, *b.Labels, who)
	}
	if err == nil {
		p, err = s.inv.PoolOf(c, p.ID.String())
	}
	s.answer(c, http.StatusOK, p, err)
}

// landingRule is a rule, and what it says.
type landingRule struct {
	landing.Rule
	Says string `json:"says"`
}

func (s *Server) ListLandingRules(c *gin.Context) {
	l, err := s.inv.LandingRules(c)
	out := make([]landingRule, len(l))
	for i, r := range l {
		out[i] = landingRule{r, r.Words(fit.Size)}
	}
	s.answer(c, http.StatusOK, out, err)
}

func (s *Server) AddLandingRule(c *gin.Context) {
	if b, ok := body[openapi.AddLandingRuleJSONRequestBody](s, c); ok {
		r, err := s.inv.AddLandingRule(c, asLanding(b), value(b.First), caller(c).Name)
		s.answer(c, http.StatusCreated, landingRule{r, r.Words(fit.Size)}, err)
	}
}

func (s *Server) DropLandingRule(c *gin.Context, rule string) {
	s.answer(c, http.StatusNoContent, nil, s.inv.DropLandingRule(c, rule, caller(c).Name))
}

func (s *Server) GetCopy(c *gin.Context, p openapi.GetCopyParams) {
	var forms []lineage.Form
	if p.Form != nil {
		forms = append(forms, lineage.Form(*p.Form))
	}
	v, err := s.inv.Copy(c, p.Name, forms...)
	s.answer(c, http.StatusOK, v, err)
}

func (s *Server) ReadConsole(c *gin.Context, p openapi.ReadConsoleParams) {
	l, err := s.work.Console(c, p.Name, value(p.From), time.Duration(value(p.Wait))*time.Second)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) GetLineage(c *gin.Context, p openapi.GetLineageParams) {
	l, err := s.inv.LineageOf(c, p.Name)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) ListHistory(c *gin.Context, p openapi.ListHistoryParams) {
	var lineage *uuid.UUID
	if ref := value(p.Lineage); ref != "" {
		l, err := s.inv.LineageOf(c, ref)
		if err != nil {
			s.problem(c, err)
			return
		}
		lineage = &l.ID
	}
	limit := value(p.Limit)
	if limit == 0 {
		limit = 100
	}
	list, err := s.inv.History(c, lineage, value(p.Filter), limit, value(p.After))
	out := gin.H{"items": list}
	if len(list) == limit {
		out["next"] = list[limit-1].ID
	}
	s.answer(c, http.StatusOK, out, err)
}

func (s *Server) Search(c *gin.Context, p openapi.SearchParams) {
	found, err := s.inv.Search(c, p.Text)
	s.answer(c, http.StatusOK, found, err)
}

func (s *Server) Survey(c *gin.Context) {
	b, ok := body[openapi.SurveyJSONRequestBody](s, c)
	if !ok {
		return
	}
	var named []string // nil: all
	if len(value(b.Hosts)) > 0 {
		named = *b.Hosts
	}
	out, err := s.work.SurveyAll(c, named)
	s.answer(c, http.StatusOK, out, err)
}

func (s *Server) ListRules(c *gin.Context) {
	l, err := s.inv.Rules(c)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) AddRule(c *gin.Context) {
	if b, ok := body[openapi.AddRuleJSONRequestBody](s, c); ok {
		r, err := s.inv.AddRule(c, asWiring(b), value(b.First), caller(c).Name)
		s.answer(c, http.StatusCreated, r, err)
	}
}

func (s *Server) DropRule(c *gin.Context, rule string) {
	s.answer(c, http.StatusNoContent, nil, s.inv.DropRule(c, rule, caller(c).Name))
}

func (s *Server) TryWiring(c *gin.Context, p openapi.TryWiringParams) {
	t, err := s.work.TryWiring(c, machine.NIC{Network: value(p.Network), VLAN: value(p.Vlan),
		Segment: value(p.Segment)},
		p.Host)
	s.answer(c, http.StatusOK, t, err)
}

func (s *Server) ListSegments(c *gin.Context) {
	l, err := s.inv.Segments(c)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) SetSegment(c *gin.Context) {
	if b, ok := body[openapi.SetSegmentJSONRequestBody](s, c); ok {
		s.answer(c, http.StatusNoContent, nil, s.inv.SetSegment(c, b.Name, b.Subnet, value(b.Range), caller(c).Name))
	}
}

func (s *Server) ListMarks(c *gin.Context, p openapi.ListMarksParams) {
	l, err := s.inv.LineageOf(c, p.Lineage)
	if err != nil {
		s.problem(c, err)
		return
	}
	marks, err := s.inv.Marks(c, l.ID)
	s.answer(c, http.StatusOK, marks, err)
}

func (s *Server) SetMark(c *gin.Context) {
	b, ok := body[openapi.SetMarkJSONRequestBody](s, c)
	if !ok {
		return
	}
	l, err := s.inv.LineageOf(c, b.Lineage)
	if err == nil {
		err = s.inv.SetMark(c, l, b.Facet, b.Kind, caller(c).Name)
	}
	s.answer(c, http.StatusNoContent, nil, err)
}

func (s *Server) ListDisks(c *gin.Context, p openapi.ListDisksParams) {
	l, err := s.inv.LooseDisks(c, page(p.Limit, p.After, p.Filter))
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) AdoptDisk(c *gin.Context) {
	if b, ok := body[openapi.AdoptDiskJSONRequestBody](s, c); ok {
		d, err := s.work.Adopt(c, b.Host, b.File, caller(c).Name)
		s.answer(c, http.StatusCreated, d, err)
	}
}

func (s *Server) LetGoDisk(c *gin.Context, p openapi.LetGoDiskParams) {
	_, err := s.inv.LetGo(c, p.File, caller(c).Name)
	s.answer(c, http.StatusNoContent, nil, err)
}

func (s *Server) LookAtFolder(c *gin.Context, p openapi.LookAtFolderParams) {
	f, err := s.work.LookAt(c, p.Host, p.Folder)
	s.answer(c, http.StatusOK, f, err)
}

func (s *Server) ListTrash(c *gin.Context, p openapi.ListTrashParams) {
	t, err := s.work.Trash(c, value(p.Host))
	s.answer(c, http.StatusOK, t, err)
}

func asLanding(b *openapi.NewLandingRule) landing.Rule {
	return landing.Rule{Kind: string(value(b.Kind)), OverBytes: value(b.OverBytes), Host: value(b.Host),
		Label: value(b.Label),
		Pool:  value(b.Pool), KeepBytes: value(b.KeepBytes)}
}

func asWiring(b *openapi.NewRule) wiring.Rule {
	return wiring.Rule{Network: value(b.Network), VLAN: value(b.Vlan), Segment: value(b.Segment), Host: value(b.Host),
		Switch: value(b.Switch)}
}
