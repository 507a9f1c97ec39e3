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
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/access"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/draw"
)

func (s *Server) ListOperations(c *gin.Context) {
	s.answer(c, http.StatusOK, draw.Operations(), nil)
}

func (s *Server) MakePlan(c *gin.Context) {
	s.asked(c, func(req draw.Request) error {
		p, err := s.work.Plan(c, req)
		if err == nil {
			s.answer(c, http.StatusOK, p, nil)
		}
		return err
	})
}

func (s *Server) StartJob(c *gin.Context, p openapi.StartJobParams) {
	s.asked(c, func(req draw.Request) error {
		j, err := s.work.Start(c, req, value(p.IdempotencyKey))
		if err == nil {
			s.answer(c, http.StatusAccepted, view(j), nil)
		}
		return err
	})
}

// asked works on a request when it is the caller's turn.
func (s *Server) asked(c *gin.Context, work func(req draw.Request) error) {
	err := func() error {
		raw, _ := c.MustGet("body").([]byte)
		req, err := draw.Parse(raw)
		if err != nil {
			return err
		}
		by := asking(c)
		draw.As(req, by)
		end, err := s.plans.take(c, by.Name)
		if err != nil {
			return err
		}
		defer end()
		return work(req)
	}()
	if err != nil {
		s.problem(c, err)
	}
}

// asking is the caller as requests want it.
func asking(c *gin.Context) draw.Caller {
	u := caller(c)
	return draw.Caller{Name: u.Name, Operator: access.May(u.Role, access.Operator),
		Administrator: access.May(u.Role, access.Administrator)}
}

// jobView is a job as the interface shows it.
type jobView struct {
	*inventory.Job
	Title          string   `json:"title"`
	Done           int64    `json:"done"`
	Total          int64    `json:"total"`
	DoneBytes      int64    `json:"doneBytes"` // the same as done and total, with their unit
	TotalBytes     int64    `json:"totalBytes"`
	BytesPerSecond int64    `json:"bytesPerSecond"`
	SecondsLeft    *int64   `json:"secondsLeft"`
	DownSeconds    *float64 `json:"downSeconds"`
	Error          any      `json:"error"`

	State       inventory.JobState         `json:"state"` // as people are told it
	Children    []uuid.UUID                `json:"children"`
	ChildStates map[inventory.JobState]int `json:"childStates"`
}

func view(j *inventory.Job) jobView {
	v := jobView{Job: j, Title: draw.TitleOf(j.Operation, j.Subject, len(j.NewCopies)), State: j.Shown(),
		Children: []uuid.UUID{}}
	if j.Steps == nil {
		j.Steps = []inventory.Step{}
	}
	switch {
	case j.State == inventory.JobHeld && j.HeldFor != "":
		v.Error = gin.H{"code": j.HeldCode, "message": j.HeldFor}
	case j.Error != "":
		v.Error = gin.H{"code": j.ErrorCode, "message": j.Error}
	}
	for _, s := range j.Steps {
		v.Done += s.Done
		v.Total += max(s.Bytes, s.Done)
		if s.State == inventory.StepWorking && s.StartedAt != nil {
			if secs := time.Since(*s.StartedAt).Seconds(); secs > 0.5 {
				v.BytesPerSecond = int64(float64(s.Done) / secs)
			}
		}
	}
	if c := j.Children; c != nil {
		v.Children, v.ChildStates = append(v.Children, c.IDs...), c.States
		v.Done, v.Total, v.BytesPerSecond = c.Done, c.Total, c.BytesPerSecond
		switch failed := c.States[inventory.JobFailed]; {
		case j.State == inventory.JobHeld && c.HeldFor != "":
			v.Error = gin.H{"code": c.HeldCode, "message": c.HeldFor}
		case failed > 0:
			v.Error = gin.H{"code": "", "message": fmt.Sprintf("%d of %d machines failed.", failed, j.Parts)}
		}
	}
	if v.BytesPerSecond > 0 && j.State == inventory.JobWorking {
		left := (v.Total - v.Done) / v.BytesPerSecond
		v.SecondsLeft = &left
	}
	v.DoneBytes, v.TotalBytes = v.Done, v.Total
	v.DownSeconds = down(j)
	return v
}

// down is for how long machines stood that a job stopped and started again, in seconds; nil where it did not, or not
// yet.
func down(j *inventory.Job) (sum *float64) {
	stopped := map[int]time.Time{} // part → when
	for _, s := range j.Steps {
		if s.State != inventory.StepDone || s.FinishedAt == nil {
			continue
		}
		switch at, ok := stopped[s.Part]; {
		case s.Kind == plan.KindStop:
			stopped[s.Part] = *s.FinishedAt
		case s.Kind == plan.KindStart && ok:
			seconds := s.FinishedAt.Sub(at).Seconds()
			if sum != nil {
				seconds += *sum
			}
			sum = &seconds
			delete(stopped, s.Part)
		}
	}
	return sum
}

func (s *Server) job(c *gin.Context, status int, j *inventory.Job, err error) {
	if err != nil {
		s.problem(c, err)
		return
	}
	s.answer(c, status, view(j), nil)
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
	page := inventory.JobsPage{State: inventory.JobState(value(p.State)), User: whose, Limit: limit,
		Before: value(p.After)}
	if p.Parent != nil {
		parent, ok := s.own(c, *p.Parent)
		if !ok {
			return
		}
		page.Parent, page.User = &parent.ID, nil // others may have gone on with some of them
	}
	list, err := s.inv.Jobs(c, page)
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
		err = inventory.Refuse(inventory.CodeUnknown, "You have no job %q. unvora jobs lists them.",
			ref)
	}
	if err != nil {
		s.problem(c, err)
		return nil, false
	}
	return j, true
}

func (s *Server) GetLimits(c *gin.Context) {
	l, err := s.inv.Limits(c)
	s.answer(c, http.StatusOK, l, err)
}

func (s *Server) SetLimits(c *gin.Context) {
	if b, ok := body[openapi.Limits](s, c); ok {
		l, err := s.work.SetLimits(c, inventory.Limits{PerHost: b.PerHost, PerLink: b.PerLink,
			PerPool: value(b.PerPool), Hours: value(b.Hours)}, caller(c).Name)
		s.answer(c, http.StatusOK, l, err)
	}
}

func (s *Server) GetJob(c *gin.Context, ref string) {
	if j, ok := s.own(c, ref); ok {
		s.job(c, http.StatusOK, j, nil)
	}
}

func (s *Server) GetJobPlan(c *gin.Context, ref string) {
	if j, ok := s.own(c, ref); ok {
		s.answer(c, http.StatusOK, j.Plan, nil)
	}
}

func (s *Server) GetJobRequest(c *gin.Context, ref string) {
	j, ok := s.own(c, ref)
	if !ok {
		return
	}
	req, err := s.work.Again(c, j.ID.String())
	if err == nil && req == nil {
		err = inventory.Wrong("It reads or writes a file on somebody's computer: ask for it again there.")
	}
	s.answer(c, http.StatusOK, req, err)
}

func (s *Server) CancelJob(c *gin.Context, ref string) {
	if j, ok := s.own(c, ref); ok {
		j, err := s.work.Steer.Cancel(c, j.ID.String(), caller(c).Name)
		s.job(c, http.StatusAccepted, j, err)
	}
}

func (s *Server) HoldJob(c *gin.Context, ref string) {
	if j, ok := s.own(c, ref); ok {
		j, err := s.work.Steer.Hold(c, j.ID.String(), caller(c).Name)
		s.job(c, http.StatusAccepted, j, err)
	}
}

func (s *Server) SetRate(c *gin.Context, ref string) {
	j, ok := s.own(c, ref)
	if !ok {
		return
	}
	if b, ok := body[openapi.SetRateJSONRequestBody](s, c); ok {
		j, err := s.work.Steer.Rate(c, j.ID.String(), caller(c).Name, b.BytesPerSecond)
		s.job(c, http.StatusAccepted, j, err)
	}
}

func (s *Server) CutOver(c *gin.Context, ref string) {
	j, ok := s.own(c, ref)
	if !ok {
		return
	}
	if b, ok := body[openapi.CutOverJSONRequestBody](s, c); ok {
		j, err := s.work.Steer.CutOver(c, j.ID.String(), caller(c).Name, b.At)
		s.job(c, http.StatusAccepted, j, err)
	}
}

func (s *Server) ResumeJob(c *gin.Context, ref string, p openapi.ResumeJobParams) {
	j, ok := s.own(c, ref)
	if !ok {
		return
	}
	if !value(p.Failed) {
		j, err := s.work.Steer.Resume(c, j.ID.String(), caller(c).Name)
		s.job(c, http.StatusAccepted, j, err)
		return
	}
	again, err := s.work.AgainFailed(c, j, asking(c))
	s.job(c, http.StatusAccepted, again, err)
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
		if err := s.work.HandedOut(context.WithoutCancel(c.Request.Context()), ref,
			int64(c.Writer.Size())); err != nil {
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
	if b, ok := body[openapi.HandedOutJSONRequestBody](s, c); ok {
		s.answer(c, http.StatusNoContent, nil, s.work.HandedOut(c, ref, b.Bytes))
	}
}
