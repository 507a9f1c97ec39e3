package api

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gin-contrib/sse"
	"github.com/gin-gonic/gin"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/inventory"
)

// hub wakes the readers of events when PostgreSQL says that there are some.
type hub struct {
	mu      sync.Mutex
	wake    chan struct{} // closed and replaced at each wake
	readers atomic.Int64
}

func newHub() *hub { return &hub{wake: make(chan struct{})} }

func (h *hub) run(ctx context.Context, inv *inventory.Inventory, log *slog.Logger) {
	for ctx.Err() == nil {
		if err := inv.Listen(ctx, h.notify); err != nil && ctx.Err() == nil {
			log.Warn("events", "error", err)
			h.notify() // those who wait look for themselves
			select {
			case <-time.After(time.Second):
			case <-ctx.Done():
			}
		}
	}
}

func (h *hub) notify() {
	h.mu.Lock()
	defer h.mu.Unlock()
	close(h.wake)
	h.wake = make(chan struct{})
}

func (h *hub) waiter() <-chan struct{} {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.wake
}

const (
	eventBatch = 500
	// An event is readable once no older transaction is running: look again soon.
	eventLag  = 250 * time.Millisecond
	keepAlive = 15 * time.Second
)

// happened is what a reader is told of an event.
type happened struct {
	Subject string          `json:"subject"`
	At      time.Time       `json:"at"`
	Data    json.RawMessage `json:"data"`
}

// StreamEvents writes events as they come, beginning after Last-Event-ID.
func (s *Server) StreamEvents(c *gin.Context, p openapi.StreamEventsParams) {
	ctx := c.Request.Context()
	id := value(p.LastEventID)
	s.events.readers.Add(1)
	defer s.events.readers.Add(-1)
	lost := false
	var err error
	if id == "" {
		_, id, err = s.inv.EventsAfter(ctx, "", eventBatch)
	} else {
		lost, err = s.inv.EventsLost(ctx, id)
	}
	if lost {
		_, id, err = s.inv.EventsAfter(ctx, "", eventBatch)
	}
	if err != nil {
		s.problem(c, err)
		return
	}
	c.Header("Content-Type", "text/event-stream")
	c.Header("Cache-Control", "no-store")
	c.Status(http.StatusOK)
	fmt.Fprintf(c.Writer, "retry: 1000\n: hello\n\n")
	if lost { // what was missed is not to be had any more: everything has to be read anew
		if err := sse.Encode(c.Writer, sse.Event{Id: id, Event: "anew", Data: struct{}{}}); err != nil {
			return
		}
	}
	c.Writer.Flush()
	quiet := time.Now()
	for {
		wake := s.events.waiter()
		list, next, err := s.inv.EventsAfter(ctx, id, eventBatch)
		if err != nil {
			return
		}
		for _, e := range list {
			news := happened{Subject: e.Subject, At: e.At.UTC(), Data: e.Data}
			if err := sse.Encode(c.Writer, sse.Event{Id: e.ID, Event: e.Kind, Data: news}); err != nil {
				return
			}
		}
		id = next
		if len(list) > 0 {
			c.Writer.Flush()
			quiet = time.Now()
			continue
		}
		if time.Since(quiet) > keepAlive {
			if _, err := s.user(c); err != nil { // who was let in may not be any more
				return
			}
			fmt.Fprint(c.Writer, ": still here\n\n")
			c.Writer.Flush()
			quiet = time.Now()
		}
		select {
		case <-wake:
			select {
			case <-time.After(eventLag / 5):
			case <-ctx.Done():
				return
			}
		case <-time.After(4 * eventLag):
		case <-ctx.Done():
			return
		}
	}
}
