package inventory

import (
	"context"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Ways in which people are told of jobs.
const (
	TellMail = "mail"
	TellCall = "call"
)

// Causes of which people are told: a job is done, has failed (also in part), or can't go on.
const (
	TellDone   = "done"
	TellFailed = "failed"
	TellHeld   = "held"
)

// Telling is somebody's wish to be told of jobs.
type Telling struct {
	ID           uuid.UUID  `json:"id"`
	User         string     `json:"user" db:"user_name"` // whose jobs; "" for everybody's
	AddedBy      string     `json:"addedBy"`
	How          string     `json:"how"`
	Address      string     `json:"address"`
	Causes       []string   `json:"causes"`
	LeastSeconds int        `json:"leastSeconds"` // of a job that is done: how long it has to have taken
	Sealed       []byte     `json:"-"`            // secret that calls are signed with
	AddedAt      time.Time  `json:"addedAt"`
	ToldAt       *time.Time `json:"toldAt"`
	Error        string     `json:"error"` // why the last could not be told
}

const tellingSQL = `select id, user_name, added_by, how, address, causes, least_seconds, sealed, added_at, told_at,
	error from tellings`

// mostTellings is how many wishes a person may have.
const mostTellings = 20

// Tellings lists those that a user has added; nil for everybody's.
func (inv *Inventory) Tellings(ctx context.Context, user *string) ([]Telling, error) {
	return rows[Telling](ctx, inv.Pool, tellingSQL+` where $1::text is null or added_by = $1 order by added_at, id
		limit 1000`, user)
}

// AddTelling keeps a wish.
func (inv *Inventory) AddTelling(ctx context.Context, t *Telling) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		var n int
		if err := tx.QueryRow(ctx, `select count(*) from tellings where added_by = $1`,
			t.AddedBy).Scan(&n); err != nil {
			return err
		}
		if n >= mostTellings {
			return Refuse(CodeTaken, "You are told in %d ways already. Drop one first: unvora tell drop ID", n)
		}
		if _, err := tx.Exec(ctx, `insert into tellings (id, user_name, added_by, how, address, causes, least_seconds,
			sealed) values ($1, $2, $3, $4, $5, $6, $7, $8)`, t.ID, t.User, t.AddedBy, t.How, t.Address, t.Causes,
			t.LeastSeconds, append([]byte{}, t.Sealed...)); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: t.AddedBy, What: "tell", Subject: t.How + " " + t.Address})
	})
}

// OneTelling finds a wish by its id or the end of it, among those that a user has added; nil for everybody's.
func (inv *Inventory) OneTelling(ctx context.Context, ref string, user *string) (*Telling, error) {
	unknown := Refuse(CodeUnknown, "Nobody is told by %q. unvora tell list shows who is.", ref)
	if len(ref) < 6 || strings.Trim(strings.ToLower(ref), "0123456789abcdef-") != "" {
		return nil, unknown
	}
	list, err := rows[Telling](ctx, inv.Pool, tellingSQL+` where id::text like '%' || lower($1)
		and ($2::text is null or added_by = $2) limit 2`, ref, user)
	switch {
	case err != nil:
		return nil, err
	case len(list) == 0:
		return nil, unknown
	case len(list) > 1:
		return nil, Refuse(CodeAmbiguous, "%q ends the ids of several.", ref)
	}
	return &list[0], nil
}

// DropTelling forgets a wish.
func (inv *Inventory) DropTelling(ctx context.Context, t *Telling, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `delete from tellings where id = $1`, t.ID); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "tell drop", Subject: t.How + " " + t.Address})
	})
}

// Due is something that has to be told.
type Due struct {
	ID      uuid.UUID
	Telling uuid.UUID
	Job     uuid.UUID
	Cause   string
	Tries   int
}

// Due takes what has to be told now. Nobody else takes it within the time that it is lent for.
func (inv *Inventory) Due(ctx context.Context, most int, lent time.Duration) ([]Due, error) {
	return rows[Due](ctx, inv.Pool, `update told set tries = tries + 1, next_at = now() + make_interval(secs => $2)
		where id in (select id from told where next_at <= now() order by next_at limit $1
			for no key update skip locked)
		returning id, telling_id as telling, job_id as job, cause, tries`, most, lent.Seconds())
}

// Told notes that something was told, or why not and when it is tried again; the zero time: not any more.
func (inv *Inventory) Told(ctx context.Context, d Due, why string, again time.Time) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		var next *time.Time
		if why != "" && !again.IsZero() {
			next = &again
		}
		if _, err := tx.Exec(ctx, `update told set next_at = $2 where id = $1`, d.ID, next); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `update tellings set error = $2, told_at = case when $2 = '' then now() else told_at end
			where id = $1`, d.Telling, why)
		return err
	})
}
