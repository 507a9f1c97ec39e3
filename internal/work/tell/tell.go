// Package tell tells people of jobs: by mail, and by calls of web addresses. What is to be told the database notes when
// a job's state changes; whichever service comes first tells it, again and again until it has arrived.
package tell

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/internal/inventory"
)

// Settings are what the teller needs of those of the service.
type Settings struct {
	MailServer string // smtp://[USER:PASSWORD@]HOST[:PORT], or smtps://; "" for none
	MailFrom   string
	Address    string // by which people reach the service, such as https://unvora.skerrow.example; "" for none
}

// Teller tells people of jobs.
type Teller struct {
	inv  *inventory.Inventory
	key  keyring.Key
	set  Settings
	mail *mailer // nil: no server is set
	log  *slog.Logger
}

// New checks the settings.
func New(inv *inventory.Inventory, key keyring.Key, set Settings, log *slog.Logger) (*Teller, error) {
	t := &Teller{inv: inv, key: key, set: set, log: log}
	t.set.Address = strings.TrimRight(set.Address, "/")
	var err error
	t.mail, err = newMailer(set.MailServer, set.MailFrom)
	return t, err
}

const (
	lookEvery = 3 * time.Second  // for what is to be told
	atOnce    = 8                // that are told side by side: one that does not answer holds up no other
	oneTime   = 20 * time.Second // that one gets
	lent      = 2 * oneTime      // until another may take it
	firstWait = 30 * time.Second // until it is tried again, doubled each time
	lastWait  = time.Hour
	giveUp    = 16 // tries: about ten hours
)

// Run tells until ctx ends.
func (t *Teller) Run(ctx context.Context) error {
	again := time.NewTicker(lookEvery)
	defer again.Stop()
	for {
		list, err := t.inv.Due(ctx, atOnce, lent)
		if err != nil && ctx.Err() == nil {
			t.log.Warn("what is to be told", "error", err)
		}
		var all sync.WaitGroup
		for _, d := range list {
			all.Go(func() { t.one(ctx, d) })
		}
		all.Wait()
		if len(list) == atOnce {
			continue
		}
		select {
		case <-again.C:
		case <-ctx.Done():
			return nil
		}
	}
}

// one tells one thing, and notes how that went.
func (t *Teller) one(ctx context.Context, d inventory.Due) {
	err := t.tell(ctx, d)
	if ctx.Err() != nil {
		return // another service does, or this one when it is back
	}
	why, again := "", time.Time{}
	if err != nil {
		why = err.Error()
		t.log.Warn("somebody was not told", "job", d.Job, "error", err)
		if d.Tries < giveUp {
			again = time.Now().Add(min(firstWait<<min(d.Tries-1, 12), lastWait))
		}
	}
	if err := t.inv.Told(ctx, d, why, again); err != nil && ctx.Err() == nil {
		t.log.Warn("note that somebody was told", "error", err)
	}
}

func (t *Teller) tell(ctx context.Context, d inventory.Due) error {
	to, err := t.inv.OneTelling(ctx, d.Telling.String(), nil)
	if err != nil {
		return err
	}
	j, err := t.inv.Job(ctx, d.Job.String())
	if err != nil {
		return err
	}
	return t.send(ctx, to, t.wordsOf(j, d))
}

// send gives words to whoever wants them.
func (t *Teller) send(ctx context.Context, to *inventory.Telling, w *words) error {
	ctx, stop := context.WithTimeout(ctx, oneTime)
	defer stop()
	if to.How == inventory.TellMail {
		return t.mail.send(ctx, to.Address, w)
	}
	secret, err := t.key.Open(to.Sealed, inventory.TellingPurpose(to.ID))
	if err != nil {
		return err
	}
	return call(ctx, to.Address, secret, w)
}

// words are what somebody is told.
type words struct {
	ID     string    `json:"id"` // of this message; the same when it is sent again
	At     time.Time `json:"at"`
	Cause  string    `json:"cause"` // done, failed, held, or test
	Title  string    `json:"title"`
	Text   string    `json:"text"`
	Job    *job      `json:"job,omitempty"`
	Unvora string    `json:"unvora,omitempty"` // by which people reach it
}

// job is what is told of a job.
type job struct {
	ID         string     `json:"id"`
	Operation  string     `json:"operation"`
	Subject    string     `json:"subject"`
	State      string     `json:"state"`
	User       string     `json:"user"`
	Note       string     `json:"note"`
	Error      string     `json:"error"`
	StartedAt  *time.Time `json:"startedAt"`
	FinishedAt *time.Time `json:"finishedAt"`
}

// mostSubject is how much of what a job is about stands in a title.
const mostSubject = 60

func (t *Teller) wordsOf(j *inventory.Job, d inventory.Due) *words {
	w := &words{ID: d.ID.String(), At: time.Now(), Cause: d.Cause, Unvora: t.set.Address,
		Job: &job{ID: j.ID.String(), Operation: j.Operation, Subject: j.Subject, State: string(j.State),
			User: j.UserName, Note: j.Note, Error: j.Error, StartedAt: j.StartedAt, FinishedAt: j.FinishedAt}}
	if j.State == inventory.JobHeld {
		w.Job.Error = j.HeldFor
	}
	subject := j.Subject
	if cut := []rune(subject); len(cut) > mostSubject {
		subject = string(cut[:mostSubject]) + "…"
	}
	w.Title = fmt.Sprintf("%s %s: %s", j.Operation, subject, j.State)
	lines := []string{fmt.Sprintf("%s %s is %s.", j.Operation, j.Subject, j.State)}
	if c := j.Children; c != nil && c.States[inventory.JobFailed] > 0 {
		lines = append(lines, fmt.Sprintf("%d of %d machines failed: unvora jobs resume %s --failed",
			c.States[inventory.JobFailed], j.Parts, j.ID))
	}
	if w.Job.Error != "" {
		lines = append(lines, w.Job.Error)
	}
	if j.StartedAt != nil && j.FinishedAt != nil {
		lines = append(lines, fmt.Sprintf("It took %s.", j.FinishedAt.Sub(*j.StartedAt).Round(time.Second)))
	}
	lines = append(lines, fmt.Sprintf("Begun by %s. unvora jobs %s tells all of it.", j.UserName, j.ID))
	if t.set.Address != "" {
		lines = append(lines, t.set.Address+"/jobs")
	}
	w.Text = strings.Join(lines, "\n")
	return w
}
