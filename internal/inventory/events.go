package inventory

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Event tells that a record has changed.
type Event struct {
	ID      string          `json:"id"` // TX.ID: the place in the order
	At      time.Time       `json:"at"`
	Kind    string          `json:"kind"` // host, copy, job
	Subject string          `json:"subject"`
	Data    json.RawMessage `json:"data"`
}

// Emit writes an event in the transaction that makes the change.
func (l Ledger) Emit(ctx context.Context, kind, subject string, data map[string]any) error {
	raw, err := json.Marshal(data)
	if err != nil {
		return err
	}
	with := `$3::jsonb`
	if kind == "job" { // whoever watches its parent is told too
		with = `$3::jsonb || coalesce((select jsonb_build_object('parent', parent) from jobs where id = $2::text::uuid
			and parent is not null), '{}')`
	}
	_, err = l.q.Exec(ctx, `insert into events (kind, subject, data) values ($1, $2::text, `+with+`)`, kind, subject,
		raw)
	return err
}

// EventsAfter reads events that came after the one with that id, up to the
// oldest transaction that is still running. "" begins with what comes next.
func (inv *Inventory) EventsAfter(ctx context.Context, id string, limit int) ([]Event, string, error) {
	if id == "" {
		err := inv.Pool.QueryRow(ctx, `select pg_snapshot_xmin(pg_current_snapshot())::text`).Scan(&id)
		return nil, id + ".0", err
	}
	tx, seq, err := eventPlace(id)
	if err != nil {
		return nil, id, err
	}
	list, err := rows[Event](ctx, inv.Pool, `select tx::text || '.' || id::text as id, at, kind, subject, data
		from events e
		where (e.tx, e.id) > ($1::text::xid8, $2::text::bigint) and e.tx < pg_snapshot_xmin(pg_current_snapshot())
		order by e.tx, e.id limit $3`, tx, seq, limit)
	if err != nil {
		return nil, id, err
	}
	if len(list) > 0 {
		id = list[len(list)-1].ID
	}
	return list, id, nil
}

func eventPlace(id string) (tx, seq string, err error) {
	tx, seq, ok := strings.Cut(id, ".")
	_, err1 := strconv.ParseUint(tx, 10, 64)
	_, err2 := strconv.ParseInt(seq, 10, 64)
	if !ok || err1 != nil || err2 != nil {
		return "", "", Wrong("%q is not the id of an event.", id)
	}
	return tx, seq, nil
}

// EventsLost tells whether events that came after the one with that id were dropped
// already: whoever reads on from there would miss them.
func (inv *Inventory) EventsLost(ctx context.Context, id string) (lost bool, err error) {
	tx, seq, err := eventPlace(id)
	if err != nil {
		return false, err
	}
	err = inv.Pool.QueryRow(ctx, `select exists (select 1 from event_horizon h where (h.tx, h.id) > ($1::text::xid8,
		$2::text::bigint))`, tx, seq).Scan(&lost)
	return lost, err
}

// pruned is how many rows are dropped in one statement: nobody waits long for it.
const pruned = 5000

// PruneEvents drops those older than keep, and what was noticed and never told.
func (inv *Inventory) PruneEvents(ctx context.Context, keep time.Duration) error {
	if err := inv.prune(ctx, pruned, `delete from noticed where id in (select id from noticed
		where at < now() - interval '7 days' limit $1)`); err != nil {
		return err
	}
	return inv.prune(ctx, pruned, `with gone as (delete from events where id in (select id from events
			where at < now() - make_interval(secs => $2) order by at limit $1) returning tx, id),
		last as (select tx, id from gone order by tx desc, id desc limit 1),
		noted as (insert into event_horizon (tx, id) select tx, id from last on conflict (one) do update
			set tx = excluded.tx, id = excluded.id
			where (excluded.tx, excluded.id) > (event_horizon.tx, event_horizon.id))
		select from gone`, keep.Seconds())
}

// prunedJobs is the same for jobs, each of which may have a thousand steps and five hundred children.
const prunedJobs = 50

// PruneJobs drops those that ended longer ago than keep, each with all its children; 0 keeps all. What a copy was made
// from, and history, stay.
func (inv *Inventory) PruneJobs(ctx context.Context, keep time.Duration) error {
	if keep == 0 {
		return nil
	}
	return inv.prune(ctx, prunedJobs, `delete from jobs where id in (select id from jobs j
		where created_at < now() - make_interval(secs => $2) and parent is null
		and state in ('done', 'failed', 'cancelled') and finished_at < now() - make_interval(secs => $2)
		and not exists (select 1 from jobs c where c.parent = j.id
			and (c.finished_at is null or c.finished_at > now() - make_interval(secs => $2)))
		order by created_at, id limit $1)`, keep.Seconds())
}

// PruneHistory drops what is older than keep; 0 keeps all.
func (inv *Inventory) PruneHistory(ctx context.Context, keep time.Duration) error {
	if keep == 0 {
		return nil
	}
	return inv.prune(ctx, pruned, `delete from audit where id in (select id from audit
		where at < now() - make_interval(secs => $2) order by at, id limit $1)`, keep.Seconds())
}

// prune carries a statement out that drops as many rows as $1 says, most at once, until there are no more.
func (inv *Inventory) prune(ctx context.Context, most int64, sql string, args ...any) error {
	for {
		tag, err := inv.Pool.Exec(ctx, sql, append([]any{most}, args...)...)
		if err != nil || tag.RowsAffected() < most {
			return err
		}
	}
}

// Listen calls wake whenever events were written, until ctx ends.
func (inv *Inventory) Listen(ctx context.Context, wake func()) error {
	conn, err := inv.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "listen events"); err != nil {
		return err
	}
	for {
		if _, err := conn.Conn().WaitForNotification(ctx); err != nil {
			return fmt.Errorf("wait for events: %w", err)
		}
		wake()
	}
}

// Entry of the audit trail.
type Entry struct {
	ID        uuid.UUID      `json:"id"`
	At        time.Time      `json:"at"`
	Who       string         `json:"who"`
	What      string         `json:"what"`
	Subject   string         `json:"subject"`
	CopyID    *uuid.UUID     `json:"copy"`
	LineageID *uuid.UUID     `json:"lineage"`
	Why       string         `json:"why"`
	Detail    map[string]any `json:"detail"`
}

// Told is an entry as history shows it.
type Told struct {
	Entry
	// Command that takes it back; "" where none does, or more was done with the copy since.
	Back string `json:"back,omitempty"`
}

// TakenOff is who took copies off their hosts' lists, by copy, where that is the last that was done with them.
func (inv *Inventory) TakenOff(ctx context.Context, ids ...uuid.UUID) (map[uuid.UUID]Entry, error) {
	list, err := rows[Entry](ctx, inv.Pool, `select a.* from unnest($1::uuid[]) c
		cross join lateral (select id, at, who, what, subject, copy_id, lineage_id, why, detail
			from audit where copy_id = c order by at desc, id desc limit 1) a
		where a.what in ('delist', 'hand-over')`, ids)
	by := map[uuid.UUID]Entry{}
	for _, e := range list {
		by[*e.CopyID] = e
	}
	return by, err
}

// Audit writes who did what, in the transaction that does it.
func (l Ledger) Audit(ctx context.Context, e Entry) error {
	if e.Detail == nil {
		e.Detail = map[string]any{}
	}
	_, err := l.q.Exec(ctx, `insert into audit (id, who, what, subject, copy_id, lineage_id, why, detail) values ($1,
		$2,
		$3, $4, $5, $6, $7, $8)`,
		NewID(), e.Who, e.What, e.Subject, e.CopyID, e.LineageID, e.Why, e.Detail)
	return err
}

// heldCopy is the one copy that a job keeps others from, and its lineage; nil where there are several, or none.
func heldCopy(ctx context.Context, tx pgx.Tx, job uuid.UUID) (id, lineage *uuid.UUID, err error) {
	keys, err := rows[struct{ Key string }](ctx, tx, `select key from holds where job_id = $1 and key like 'copy:%'
		limit 2`, job)
	if err != nil || len(keys) != 1 {
		return nil, nil, err
	}
	if id = OptionalID(strings.TrimPrefix(keys[0].Key, CopyKey(""))); id == nil {
		return nil, nil, nil // it was not in the inventory
	}
	list, err := rows[struct{ LineageID uuid.UUID }](ctx, tx, `select lineage_id from copies where id = $1`, id)
	if err != nil || len(list) == 0 {
		return nil, nil, err
	}
	return id, &list[0].LineageID, nil
}

// auditEnd writes how a job has ended, once for what was done: where it is done, and has told that of each copy that it
// made or changed, there is nothing to add.
func (l Ledger) auditEnd(ctx context.Context, j *Job, state JobState, message string, copy, lineage *uuid.UUID) error {
	what := j.Operation
	if state != JobDone {
		what += " " + string(state)
	}
	told := false
	if err := l.q.QueryRow(ctx, `select exists (select 1 from audit where detail->>'job' = $1::text and what = $2)`,
		j.ID.String(), what).Scan(&told); err != nil || told {
		return err
	}
	return l.Audit(ctx, Entry{Who: j.UserName, What: what, Subject: j.Subject, CopyID: copy, LineageID: lineage,
		Why: j.Note, Detail: map[string]any{"job": j.ID, "error": message}})
}

// historyFields are what history can be filtered by.
var historyFields = map[string]field{
	"who":     {equal: "who = %s", like: "who ilike %s"},
	"what":    {equal: "what = %s", like: "what ilike %s"},
	"subject": {equal: "subject = %s", like: "subject ilike %s"},
	"copy":    {equal: "copy_id = %s::uuid", check: isUUID},
	"job":     {equal: "detail->>'job' = %s", check: isUUID},
	"since":   {equal: "at >= %s::timestamptz", check: isTime},
	// a day is meant as a whole
	"until": {equal: "at < %[1]s::text::timestamptz + case when length(%[1]s::text) = 10 then interval '1 day' " +
		"else interval '0' end", check: isTime},
}

// isTime takes a day, or a moment of it with its zone.
func isTime(value string) error {
	for _, layout := range []string{time.DateOnly, time.RFC3339} {
		if _, err := time.Parse(layout, value); err == nil {
			return nil
		}
	}
	return fmt.Errorf("%q is no day such as 2026-03-01, or moment such as 2026-03-01T18:04:00Z", value)
}

// History reads the audit trail, newest first; lineage and filter narrow it.
func (inv *Inventory) History(ctx context.Context, lineage *uuid.UUID, filter string, limit int,
	before string) ([]Told, error) {
	if before == "" {
		before = uuid.Max.String()
	}
	if _, err := uuid.Parse(before); err != nil {
		return nil, Wrong("%q is not the next of a page.", before)
	}
	if err := checkLimit(limit); err != nil {
		return nil, err
	}
	args := []any{lineage, before, limit}
	conditions, err := where(filter, historyFields, &args)
	if err != nil {
		return nil, err
	}
	conditions = append([]string{"($1::uuid is null or lineage_id = $1)", "id < $2::uuid"}, conditions...)
	return rows[Told](ctx, inv.Pool, `select id, at, who, what, subject, copy_id, lineage_id, why, detail,
		coalesce((select taken_back_by from jobs j where j.id = case when detail->>'job' ~ '^[0-9a-f-]{36}$'
			then (detail->>'job')::uuid end and j.operation = what
			and not exists (select 1 from audit later where later.copy_id = audit.copy_id
				and (later.at, later.id) > (audit.at, audit.id))), '') as back
		from audit where `+strings.Join(conditions, " and ")+` order by id desc limit $3`, args...)
}
