package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/landing"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/access"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work"
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
	l, err := s.inv.Copies(c, page(p.Limit, p.After, p.Filter))
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) ListLineages(c *gin.Context, p openapi.ListLineagesParams) {
	l, err := s.inv.Lineages(c, page(p.Limit, p.After, p.Filter))
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) ListShelves(c *gin.Context) {
	l, err := s.inv.Shelves(c)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) ListSwitches(c *gin.Context, p openapi.ListSwitchesParams) {
	var id uuid.UUID
	if name := value(p.Host); name != "" {
		h, err := s.inv.Host(c, name)
		if err != nil {
			s.problem(c, err)
			return
		}
		id = h.ID
	}
	l, err := s.inv.Switches(c, id)
	s.answer(c, http.StatusOK, l, err)
}

// hostDetail is a host with what belongs to it.
type hostDetail struct {
	*inventory.Host
	Pools    []inventory.Pool   `json:"pools"`
	Switches []inventory.Switch `json:"switches"`
	Shelves  []inventory.Shelf  `json:"shelves"`
}

func (s *Server) GetHost(c *gin.Context, ref string) {
	h, err := s.inv.Host(c, ref)
	if err != nil {
		s.problem(c, err)
		return
	}
	d := hostDetail{Host: h, Shelves: []inventory.Shelf{}}
	var shelves []inventory.Shelf
	if d.Pools, err = s.inv.HostPools(c, h.ID); err == nil {
		if d.Switches, err = s.inv.Switches(c, h.ID); err == nil {
			shelves, err = s.inv.Shelves(c)
		}
	}
	for _, sh := range shelves {
		if sh.HostID == h.ID {
			d.Shelves = append(d.Shelves, sh)
		}
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
	type request struct {
		Resting *bool `json:"resting" binding:"required"`
	}
	b, ok := body[request](s, c)
	if !ok {
		return
	}
	h, err := s.inv.Host(c, ref)
	if err == nil {
		if err = s.inv.RestHost(c, h, *b.Resting, caller(c).Name); err == nil {
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
	type request struct {
		Code    string `json:"code" binding:"required"`
		Address string `json:"address"`
	}
	if b, ok := body[request](s, c); ok {
		h, err := s.work.Readmit(c, ref, b.Address, b.Code, caller(c).Name)
		s.answer(c, http.StatusOK, h, err)
	}
}

func (s *Server) SetPool(c *gin.Context, q openapi.SetPoolParams) {
	type request struct {
		Resting *bool    `json:"resting"`
		Labels  []string `json:"labels"`
	}
	b, ok := body[request](s, c)
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
		err = s.work.Label(c, p, b.Labels, who)
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
	type request struct {
		landing.Rule
		First bool `json:"first"`
	}
	if b, ok := body[request](s, c); ok {
		r, err := s.inv.AddLandingRule(c, b.Rule, b.First, caller(c).Name)
		s.answer(c, http.StatusCreated, landingRule{r, r.Words(fit.Size)}, err)
	}
}

func (s *Server) DropLandingRule(c *gin.Context, rule string) {
	s.answer(c, http.StatusNoContent, nil, s.inv.DropLandingRule(c, rule, caller(c).Name))
}

func (s *Server) GetCopy(c *gin.Context, p openapi.GetCopyParams) {
	v, err := s.inv.Copy(c, p.Name)
	s.answer(c, http.StatusOK, v, err)
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
	list, err := s.inv.History(c, lineage, limit, value(p.After))
	out := gin.H{"items": list}
	if len(list) == limit {
		out["next"] = list[limit-1].ID
	}
	s.answer(c, http.StatusOK, out, err)
}

func (s *Server) Survey(c *gin.Context) {
	type request struct {
		Hosts []string `json:"hosts"`
	}
	b, ok := body[request](s, c)
	if !ok {
		return
	}
	if len(b.Hosts) == 0 {
		b.Hosts = nil
	}
	out, err := s.work.SurveyAll(c, b.Hosts, true)
	s.answer(c, http.StatusOK, out, err)
}

func (s *Server) ListRules(c *gin.Context) {
	l, err := s.inv.Rules(c)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) AddRule(c *gin.Context) {
	type request struct {
		wiring.Rule
		First bool `json:"first"`
	}
	if b, ok := body[request](s, c); ok {
		r, err := s.inv.AddRule(c, b.Rule, b.First, caller(c).Name)
		s.answer(c, http.StatusCreated, r, err)
	}
}

func (s *Server) DropRule(c *gin.Context, rule string) {
	s.answer(c, http.StatusNoContent, nil, s.inv.DropRule(c, rule, caller(c).Name))
}

func (s *Server) TryWiring(c *gin.Context, p openapi.TryWiringParams) {
	t, err := s.work.TryWiring(c, machine.NIC{Network: value(p.Network), VLAN: value(p.Vlan), Segment: value(p.Segment)}, p.Host)
	s.answer(c, http.StatusOK, t, err)
}

func (s *Server) ListSegments(c *gin.Context) {
	l, err := s.inv.Segments(c)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) SetSegment(c *gin.Context) {
	type request struct {
		Name   string `json:"name" binding:"required"`
		Subnet string `json:"subnet"`
		Range  string `json:"range"`
	}
	if b, ok := body[request](s, c); ok {
		s.answer(c, http.StatusNoContent, nil, s.inv.SetSegment(c, b.Name, b.Subnet, b.Range, caller(c).Name))
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
	type request struct {
		Lineage string `json:"lineage" binding:"required"`
		Facet   string `json:"facet" binding:"required"`
		Kind    string `json:"kind"`
	}
	b, ok := body[request](s, c)
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
	type request struct {
		Host string `json:"host" binding:"required"`
		File string `json:"file" binding:"required"`
	}
	if b, ok := body[request](s, c); ok {
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

func (s *Server) MakePlan(c *gin.Context) {
	if b, ok := body[work.Request](s, c); ok {
		p, err := s.plan(c, b)
		s.answer(c, http.StatusOK, p, err)
	}
}

func (s *Server) StartJob(c *gin.Context, p openapi.StartJobParams) {
	if b, ok := body[work.Request](s, c); ok {
		j, err := s.start(c, b, value(p.IdempotencyKey))
		s.job(c, http.StatusAccepted, j, err)
	}
}

// plan works a request out when it is the caller's turn.
func (s *Server) plan(c *gin.Context, b *work.Request) (*plan.Plan, error) {
	end, err := s.turn(c, b)
	if err != nil {
		return nil, err
	}
	defer end()
	return s.work.Plan(c, b)
}

func (s *Server) start(c *gin.Context, b *work.Request, key string) (*inventory.Job, error) {
	end, err := s.turn(c, b)
	if err != nil {
		return nil, err
	}
	defer end()
	return s.work.Start(c, b, caller(c).Name, key)
}

func (s *Server) turn(c *gin.Context, b *work.Request) (end func(), err error) {
	u := caller(c)
	b.As(u.Name, access.May(u.Role, access.Operator), access.May(u.Role, access.Administrator))
	return s.plans.take(c, u.Name)
}

// jobView is a job as the interface shows it.
type jobView struct {
	*inventory.Job
	Done           int64    `json:"done"`
	Total          int64    `json:"total"`
	BytesPerSecond int64    `json:"bytesPerSecond"`
	SecondsLeft    *int64   `json:"secondsLeft"`
	Children       []string `json:"children"`
	Error          any      `json:"error"`
}

func view(j *inventory.Job) jobView {
	v := jobView{Job: j, Children: []string{}}
	if j.Steps == nil {
		j.Steps = []inventory.Step{}
	}
	switch {
	case j.State == "held" && j.HeldFor != "":
		v.Error = gin.H{"code": j.HeldCode, "message": j.HeldFor}
	case j.Error != "":
		v.Error = gin.H{"code": j.ErrorCode, "message": j.Error}
	}
	for _, s := range j.Steps {
		v.Done += s.Done
		v.Total += max(s.Bytes, s.Done)
		if s.State == "working" && s.StartedAt != nil {
			if secs := time.Since(*s.StartedAt).Seconds(); secs > 0.5 {
				v.BytesPerSecond = int64(float64(s.Done) / secs)
			}
		}
	}
	if v.BytesPerSecond > 0 && j.State == "working" {
		left := (v.Total - v.Done) / v.BytesPerSecond
		v.SecondsLeft = &left
	}
	return v
}

func (s *Server) job(c *gin.Context, status int, j *inventory.Job, err error) {
	if err != nil {
		s.problem(c, err)
		return
	}
	c.JSON(status, view(j))
}

func (s *Server) ListJobs(c *gin.Context, p openapi.ListJobsParams) {
	limit := value(p.Limit)
	if limit == 0 {
		limit = 100
	}
	var whose *string // everybody's
	if caller(c).Role != access.Administrator {
		whose = &caller(c).Name
	}
	list, err := s.inv.Jobs(c, value(p.State), whose, limit, value(p.After))
	items := make([]jobView, len(list))
	for i := range list {
		items[i] = view(&list[i])
	}
	out := gin.H{"items": items}
	if len(list) == limit {
		out["next"] = list[limit-1].ID
	}
	s.answer(c, http.StatusOK, out, err)
}

// own is a job that the caller may see and steer; it answers itself when there is none.
func (s *Server) own(c *gin.Context, ref string) (*inventory.Job, bool) {
	j, err := s.inv.Job(c, ref)
	if err == nil && caller(c).Role != access.Administrator && j.UserName != caller(c).Name {
		err = &inventory.Error{Code: "unknown", Message: fmt.Sprintf("You have no job %q. unvora jobs lists them.", ref)}
	}
	if err != nil {
		s.problem(c, err)
		return nil, false
	}
	return j, true
}

func (s *Server) GetJob(c *gin.Context, ref string) {
	if j, ok := s.own(c, ref); ok {
		s.job(c, http.StatusOK, j, nil)
	}
}

func (s *Server) CancelJob(c *gin.Context, ref string) {
	if j, ok := s.own(c, ref); ok {
		j, err := s.work.Cancel(c, j.ID.String(), caller(c).Name)
		s.job(c, http.StatusAccepted, j, err)
	}
}

func (s *Server) HoldJob(c *gin.Context, ref string) {
	if j, ok := s.own(c, ref); ok {
		j, err := s.work.Hold(c, j.ID.String(), caller(c).Name)
		s.job(c, http.StatusAccepted, j, err)
	}
}

func (s *Server) ResumeJob(c *gin.Context, ref string) {
	if j, ok := s.own(c, ref); ok {
		j, err := s.work.Resume(c, j.ID.String(), caller(c).Name)
		s.job(c, http.StatusAccepted, j, err)
	}
}

func (s *Server) GetTransfer(c *gin.Context, ref string, p openapi.GetTransferParams) {
	if _, ok := s.own(c, ref); !ok {
		return
	}
	wants, err := s.work.Wanted(c, ref, time.Duration(value(p.Wait))*time.Second)
	s.answer(c, http.StatusOK, wants, err)
}

func (s *Server) SendBytes(c *gin.Context, ref string, p openapi.SendBytesParams) {
	if _, ok := s.own(c, ref); !ok {
		return
	}
	s.answer(c, http.StatusNoContent, nil, s.work.Send(c.Request.Context(), ref, p.Offset, c.Request.Body))
}

// pass sends a stream on. A break in the middle cuts the caller's connection.
func (s *Server) pass(c *gin.Context, r io.ReadCloser, err error) bool {
	if err != nil {
		s.problem(c, err)
		return false
	}
	defer r.Close()
	c.Header("Content-Type", "application/octet-stream")
	c.Status(http.StatusOK)
	if _, err := io.CopyBuffer(struct{ io.Writer }{c.Writer}, r, make([]byte, 256<<10)); err != nil {
		if !errors.Is(err, context.Canceled) {
			s.log.Warn("stream broke", "path", c.Request.URL.Path, "error", err)
		}
		panic(http.ErrAbortHandler)
	}
	return true
}

func (s *Server) ReadDisk(c *gin.Context, ref, disk string, p openapi.ReadDiskParams) {
	if _, ok := s.own(c, ref); !ok {
		return
	}
	r, err := s.work.Disk(c.Request.Context(), ref, disk, value(p.Offset))
	s.pass(c, r, err)
}

func (s *Server) ReadPackage(c *gin.Context, ref string) {
	if _, ok := s.own(c, ref); !ok {
		return
	}
	r, name, err := s.work.Package(c.Request.Context(), ref)
	c.Header("Content-Disposition", `attachment; filename="`+name+`"`)
	if s.pass(c, r, err) {
		if err := s.work.HandedOut(context.WithoutCancel(c.Request.Context()), ref, int64(c.Writer.Size())); err != nil {
			s.log.Warn("end of hand-out", "job", ref, "error", err)
		}
	}
}

func (s *Server) MakeDescriptor(c *gin.Context, ref string) {
	if _, ok := s.own(c, ref); !ok {
		return
	}
	b, ok := body[[]ovf.Member](s, c)
	if !ok {
		return
	}
	raw, err := s.work.Descriptor(c, ref, *b)
	if err != nil {
		s.problem(c, err)
		return
	}
	c.Data(http.StatusOK, "application/octet-stream", raw)
}

func (s *Server) HandedOut(c *gin.Context, ref string) {
	if _, ok := s.own(c, ref); !ok {
		return
	}
	type request struct {
		Bytes int64 `json:"bytes"`
	}
	if b, ok := body[request](s, c); ok {
		s.answer(c, http.StatusNoContent, nil, s.work.HandedOut(c, ref, b.Bytes))
	}
}

func (s *Server) SignIn(c *gin.Context) {
	type request struct {
		Name     string `json:"name"`
		Password string `json:"password"`
	}
	b, ok := body[request](s, c)
	if !ok {
		return
	}
	cookie, session, err := s.access.SignIn(c, b.Name, b.Password, c.RemoteIP())
	if err != nil {
		s.problem(c, err)
		return
	}
	c.SetSameSite(http.SameSiteStrictMode)
	c.SetCookie(sessionCookie, cookie, int((12 * time.Hour).Seconds()), "/", "", c.Request.TLS != nil, true)
	c.JSON(http.StatusOK, gin.H{"user": session.Name, "role": session.Role, "csrf": session.CSRF})
}

func (s *Server) GetSession(c *gin.Context) {
	u := caller(c)
	c.JSON(http.StatusOK, gin.H{"user": u.Name, "role": u.Role, "csrf": c.GetString("csrf")})
}

func (s *Server) SignOut(c *gin.Context) {
	var err error
	if cookie, e := c.Cookie(sessionCookie); e == nil {
		err = s.access.SignOut(c, cookie)
	}
	c.SetCookie(sessionCookie, "", -1, "/", "", c.Request.TLS != nil, true)
	s.answer(c, http.StatusNoContent, nil, err)
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
	type request struct {
		Name    string `json:"name" binding:"required"`
		Days    int    `json:"days"`
		Endless bool   `json:"endless"`
	}
	b, ok := body[request](s, c)
	if !ok {
		return
	}
	token, kept, err := s.access.MakeToken(c, caller(c), b.Name, b.Days, b.Endless)
	if err != nil {
		s.problem(c, err)
		return
	}
	c.JSON(http.StatusCreated, gin.H{"token": token, "id": kept.ID, "expiresAt": kept.ExpiresAt})
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
	type request struct {
		Name     string `json:"name" binding:"required"`
		Password string `json:"password" binding:"required"`
		Role     string `json:"role" binding:"oneof=administrator operator viewer"`
	}
	if b, ok := body[request](s, c); ok {
		u, err := s.access.AddUser(c, b.Name, b.Password, b.Role, caller(c).Name)
		s.answer(c, http.StatusCreated, u, err)
	}
}

func (s *Server) ChangeUser(c *gin.Context, name string) {
	type request struct {
		Password string `json:"password"`
		Current  string `json:"current"`
		Role     string `json:"role" binding:"omitempty,oneof=administrator operator viewer"`
	}
	if b, ok := body[request](s, c); ok {
		session, _ := c.Cookie(sessionCookie)
		u, err := s.access.Change(c, caller(c), name, b.Role, b.Password, b.Current, session)
		s.answer(c, http.StatusOK, u, err)
	}
}

func (s *Server) DropUser(c *gin.Context, name string) {
	s.answer(c, http.StatusNoContent, nil, s.inv.DropUser(c, name, caller(c).Name))
}
