package inventory

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
)

// Kinds of managers.
const (
	ManagerCIMI   = "cimi"   // a foreign one that speaks DMTF's CIMI
	ManagerUnvora = "unvora" // another Unvora
)

// Manager is a record of another management server.
type Manager struct {
	ID       uuid.UUID       `json:"id"`
	Name     string          `json:"name"`
	Kind     string          `json:"kind"`
	Address  string          `json:"address"`
	Account  string          `json:"account"`
	State    plan.HostState  `json:"state"`
	Problem  string          `json:"problem"`
	Version  string          `json:"version"`
	LastSeen *time.Time      `json:"lastSeen"`
	AddedAt  time.Time       `json:"addedAt"`
	Hosts    []string        `json:"hosts"`
	Copies   int             `json:"copies"`
	Grants   json.RawMessage `json:"grants"`

	Sealed      []byte `json:"-"`
	LetsTake    bool   `json:"letsTake"` // of another Unvora: it lets us take what it lets us see
	Certificate string `json:"-"`        // PEM; "" for those that the system trusts
}

const managerSQL = `select m.id, m.name, m.kind, m.address, m.account, m.state, m.problem, m.version, m.last_seen,
	m.added_at, m.grants, m.sealed, m.certificate, m.lets_take,
			array(select h.name from hosts h where h.manager_id = m.id order by h.name) as hosts,
			(select count(*) from copies c join hosts h on h.id = c.host_id where h.manager_id = m.id
			and c.gone_at is null) as copies from managers m`

// Managers lists all, by name.
func (inv *Inventory) Managers(ctx context.Context) ([]Manager, error) {
	return rows[Manager](ctx, inv.Pool, managerSQL+` order by m.name limit 1000`)
}

// Manager finds one by name or id.
func (inv *Inventory) Manager(ctx context.Context, ref string) (*Manager, error) {
	cond := "lower(m.name) = lower($1)"
	if _, err := uuid.Parse(ref); err == nil {
		cond = "m.id = $1::uuid"
	}
	m, err := one(rows[Manager](ctx, inv.Pool, managerSQL+" where "+cond, ref))
	if err == nil && m == nil {
		return nil, inv.unknown(ctx, "manager", ref, "managers")
	}
	return m, err
}

// AddManager records a manager.
func (inv *Inventory) AddManager(ctx context.Context, m *Manager, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if m.Grants == nil {
			m.Grants = json.RawMessage("{}")
		}
		_, err := tx.Exec(ctx, `insert into managers (id, name, kind, address, account, sealed, certificate, version,
			grants)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
			m.ID, m.Name, m.Kind, m.Address, m.Account, m.Sealed, m.Certificate, m.Version, m.Grants)
		if violates(err, "managers_name") {
			return Refuse(CodeTaken, "There is a manager %q already. Drop it first, or give the new one another name.",
				m.Name)
		}
		if violates(err, "managers_address") {
			return Refuse(CodeTaken, "What is at %s is known already: drop that manager first (unvora managers).",
				m.Address)
		}
		if violates(err, "managers_name_check") {
			return Wrong("%q is no name for a manager: no spaces, no / and no @.", m.Name)
		}
		if err != nil {
			return err
		}
		if err := In(tx).Audit(ctx, Entry{Who: who, What: "manager add", Subject: m.Name}); err != nil {
			return err
		}
		return In(tx).Emit(ctx, "manager", m.ID.String(), map[string]any{"name": m.Name})
	})
}

// GrantManager says what another Unvora may see and take here.
func (inv *Inventory) GrantManager(ctx context.Context, m *Manager, grants json.RawMessage, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update managers set grants = $2 where id = $1`, m.ID, grants); err != nil {
			return err
		}
		if err := In(tx).Audit(ctx, Entry{Who: who, What: "manager grant", Subject: m.Name,
			Detail: map[string]any{"grants": grants}}); err != nil {
			return err
		}
		return In(tx).Emit(ctx, "manager", m.ID.String(), map[string]any{"name": m.Name})
	})
}

// DropManager forgets a manager and what was seen there. Copies that came from
// it stay, and so does what is known of their origin.
func (inv *Inventory) DropManager(ctx context.Context, m *Manager, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := idle(ctx, tx, m.Name, `select id from hosts where manager_id = $1`, m.ID); err != nil {
			return err
		}
		for _, sql := range []string{
			`update copies set gone_at = coalesce(gone_at, now()), host_id = null, state = 'unknown'
			where host_id in (select id
			from hosts where manager_id = $1)`,
			`update steps set host_id = null where host_id in (select id from hosts where manager_id = $1)`,
			`delete from managers where id = $1`,
		} {
			if _, err := tx.Exec(ctx, sql, m.ID); err != nil {
				return err
			}
		}
		if err := In(tx).Audit(ctx, Entry{Who: who, What: "manager drop", Subject: m.Name}); err != nil {
			return err
		}
		return In(tx).Emit(ctx, "manager", m.ID.String(), map[string]any{"name": m.Name, "gone": true})
	})
}

// LetsTake notes whether another Unvora lets us take what it lets us see.
func (inv *Inventory) LetsTake(ctx context.Context, m *Manager, take bool) error {
	_, err := inv.Pool.Exec(ctx, `update managers set lets_take = $2 where id = $1 and lets_take <> $2`, m.ID, take)
	return err
}

// ManagerState notes whether a manager could be surveyed, and why not.
func (inv *Inventory) ManagerState(ctx context.Context, m *Manager, state plan.HostState,
	problem, version string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if state == plan.HostUp {
			if _, err := tx.Exec(ctx, `update managers set last_seen = now(), version = $2
				where id = $1`, m.ID, version); err != nil {
				return err
			}
		}
		tag, err := tx.Exec(ctx, `update managers set state = $2, problem = $3 where id = $1 and (state,
			problem) is distinct
			from ($2, $3)`, m.ID, state, problem)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		if _, err := tx.Exec(ctx, `update hosts set state = $2 where manager_id = $1`, m.ID, state); err != nil {
			return err
		}
		return In(tx).Emit(ctx, "manager", m.ID.String(), map[string]any{"name": m.Name, "state": state})
	})
}

// ManagedHost is the record of a host of a manager, made when there is none. Its
// name is HOST@MANAGER.
func (inv *Inventory) ManagedHost(ctx context.Context, m *Manager, name string, hello *hostlink.Hello) (*Host, error) {
	full := name + "@" + m.Name
	_, err := inv.Pool.Exec(ctx, `insert into hosts (id, name, family, driver, address, state, cpus, memory_bytes,
		manager_id) values ($1, $2, $3, $4, '', 'up', $5, $6, $7) on conflict do nothing`,
		NewID(), full, hello.Family, hello.Driver, hello.CPUs, hello.MemoryBytes, m.ID)
	if err != nil {
		return nil, err
	}
	return inv.Host(ctx, full)
}

// ManagedHosts are the hosts that a manager has told of.
func (inv *Inventory) ManagedHosts(ctx context.Context, m *Manager) ([]Host, error) {
	return rows[Host](ctx, inv.Pool, hostSQL+` where h.manager_id = $1 order by h.name`, m.ID)
}

// Ahead is a disk that was fetched ahead of its machine.
type Ahead struct {
	CopyID uuid.UUID `json:"copy"`
	Disk   string    `json:"disk"`
	HostID uuid.UUID `json:"-"`
	Host   string    `json:"host"`
	PoolID uuid.UUID `json:"-"`
	Path   string    `json:"path"`
	Image  string    `json:"image"` // at the manager
	At     time.Time `json:"at"`
}

// AheadOf lists the disks of a copy that were fetched ahead.
func (inv *Inventory) AheadOf(ctx context.Context, copy uuid.UUID) ([]Ahead, error) {
	return rows[Ahead](ctx, inv.Pool, `select a.copy_id, a.disk, a.host_id, h.name as host, a.pool_id, a.path, a.image,
		a.at from ahead a join hosts h on h.id = a.host_id where a.copy_id = $1 order by a.disk`, copy)
}

// AheadAt is a disk that was fetched ahead, with the name of its machine.
type AheadAt struct {
	Ahead
	Name string `json:"name"`
}

// AheadAt lists what was fetched ahead from a manager.
func (inv *Inventory) AheadAt(ctx context.Context, m *Manager) ([]AheadAt, error) {
	return rows[AheadAt](ctx, inv.Pool, `select a.copy_id, a.disk, a.host_id, h.name as host, a.pool_id, a.path,
		a.image, a.at, c.name from ahead a join hosts h on h.id = a.host_id join copies c on c.id = a.copy_id
		join hosts x on x.id = c.host_id where x.manager_id = $1 order by c.name, a.disk`, m.ID)
}

// NoteAhead records a disk that was fetched ahead, in place of what was.
func (l Ledger) NoteAhead(ctx context.Context, a Ahead) error {
	_, err := l.q.Exec(ctx, `insert into ahead (copy_id, disk, host_id, pool_id, path, image, at) values ($1, $2, $3,
		$4,
		$5, $6, now())
		on conflict (copy_id, disk) do update set host_id = excluded.host_id, pool_id = excluded.pool_id,
		path = excluded.path, image = excluded.image, at = now()`,
		a.CopyID, a.Disk, a.HostID, a.PoolID, a.Path, a.Image)
	return err
}

// ForgetAhead drops the record of what was fetched ahead of a copy.
func (l Ledger) ForgetAhead(ctx context.Context, copy string) error {
	_, err := l.q.Exec(ctx, `delete from ahead where copy_id = $1::uuid`, copy)
	return err
}

// AddPairing keeps the hash of a code's secret.
func (inv *Inventory) AddPairing(ctx context.Context, hash []byte, expires time.Time) error {
	_, err := inv.Pool.Exec(ctx, `insert into pairings (secret, expires) values ($1, $2)`, hash, expires)
	return err
}

// TakePairing uses a code up; false: there is none, or not any more.
func (inv *Inventory) TakePairing(ctx context.Context, hash []byte) (bool, error) {
	if _, err := inv.Pool.Exec(ctx, `delete from pairings where expires < now()`); err != nil {
		return false, err
	}
	tag, err := inv.Pool.Exec(ctx, `delete from pairings where secret = $1`, hash)
	return tag.RowsAffected() == 1, err
}

// ManagerByCertificate finds another Unvora by its authority; nil for none.
func (inv *Inventory) ManagerByCertificate(ctx context.Context, pem string) (*Manager, error) {
	return one(rows[Manager](ctx, inv.Pool, managerSQL+` where m.kind = 'unvora' and m.certificate = $1`, pem))
}

// Lent is how far another Unvora is that reads a copy from here.
type Lent struct {
	State JobState
	Done  int64
	Error string
	At    time.Time
}

// AddLent notes the job here that goes along with one there.
func (l Ledger) AddLent(ctx context.Context, job, manager uuid.UUID, theirs string) error {
	_, err := l.q.Exec(ctx, `insert into lent (job_id, manager_id, theirs) values ($1, $2, $3)`, job, manager, theirs)
	return err
}

// Lent is the job here that goes along with one there; nil for none.
func (inv *Inventory) Lent(ctx context.Context, manager uuid.UUID, theirs string) (*uuid.UUID, error) {
	r, err := inv.Pool.Query(ctx, `select job_id from lent where manager_id = $1 and theirs = $2`, manager, theirs)
	if err != nil {
		return nil, err
	}
	return one(pgx.CollectRows(r, pgx.RowTo[uuid.UUID]))
}

// LentBy is what was told last for a job.
func (inv *Inventory) LentBy(ctx context.Context, job uuid.UUID) (*Lent, error) {
	l, err := one(rows[Lent](ctx, inv.Pool, `select state, done, error, at from lent where job_id = $1`, job))
	if err == nil && l == nil {
		l = &Lent{State: JobFailed, Error: "the other Unvora was dropped"}
	}
	return l, err
}

// TellLent notes how far the other is.
func (inv *Inventory) TellLent(ctx context.Context, job uuid.UUID, done int64) error {
	_, err := inv.Pool.Exec(ctx, `update lent set at = now(), done = greatest(done, $2) where job_id = $1`, job, done)
	return err
}

// EndLent notes that the other has read everything, or why not.
func (inv *Inventory) EndLent(ctx context.Context, job uuid.UUID, done bool, why string) error {
	state := JobFailed
	if done {
		state = JobDone
	}
	_, err := inv.Pool.Exec(ctx, `update lent set at = now(), state = $2, error = $3 where job_id = $1
		and state = 'working'`, job, state, why)
	return err
}

// EachCopy calls f with every copy that fits a filter, with its machine.
func (inv *Inventory) EachCopy(ctx context.Context, filter string, f func(c *Copy) error) error {
	for after := ""; ; {
		l, err := copyList.page(ctx, inv.Pool, Page{Limit: 500, After: after, Filter: filter})
		if err != nil {
			return err
		}
		for i := range l.Items {
			if err := f(&l.Items[i]); err != nil {
				return err
			}
		}
		if after = l.Next; after == "" {
			return nil
		}
	}
}
