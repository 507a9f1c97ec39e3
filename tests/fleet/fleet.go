// Package fleet makes a large estate in the database of a small one. Its rows are those that the product has written of
// the small one, many times over, each with a name, ids and addresses of its own: whatever the schema becomes, they are
// as the product writes them.
package fleet

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Shares of a fleet. Of every thousand copies as many are what is said here.
const (
	packages  = 80
	strays    = 10
	hollows   = 1
	gones     = 90
	twins     = 1 // have UUID and MAC of another
	unsures   = 1 // may be a copy of another
	copiesOf  = 40
	samplesOf = 8  // of each disk, to recognise it by
	jobEvery  = 20 // copies
	rowEvery  = 4  // of history
)

// Fill adds size copies to the estate of a database, with their hosts, pools, lineages, jobs and history. Names and ids
// come from the seed. The estate must have copies that hosts list, a package on a shelf, and a job that is done. conn
// must be that of a superuser: what is written is written as it is, without what the database does at each row.
func Fill(ctx context.Context, conn *pgx.Conn, size, seed int) error {
	f := &filler{ctx: ctx, conn: conn}
	f.exec(`set session_replication_role = replica`)
	f.exec(`set maintenance_work_mem = '256MB'`)
	f.exec(`set work_mem = '64MB'`)
	f.exec(`set synchronous_commit = off`)
	f.exec(fmt.Sprintf(`create or replace function pg_temp.fleet_id(kind text, n bigint) returns uuid
		language sql stable as $$ select ('018f' || lpad(to_hex(n), 8, '0') || '7' || left(md5(kind), 3) || '8'
		|| left(md5(kind || n || '/%d'), 15))::uuid $$`, seed))
	hosts, shelves := max(1, size/copiesOf), max(1, size/copiesOf/10)
	f.exec(`create temp table like_copies as select row_number() over (order by c.name) - 1 as k, c.*,
		regexp_replace(c.name, '-?[0-9]*$', '') as stem from copies c join hosts h on h.id = c.host_id
		where c.form = 'registered' and c.gone_at is null and h.manager_id is null and c.tracked
		and c.machine #> '{nics,0}' is not null and not c.machine ? 'devices'`)
	f.exec(`create temp table like_host as select h.* from hosts h where manager_id is null
		order by (select count(*) from copies c where c.host_id = h.id) desc limit 1`)
	f.exec(`create temp table like_pool as select p.*, x.host_id from pools p join pool_hosts x on x.pool_id = p.id
		where x.host_id = (select id from like_host) order by x.position limit 1`)
	f.exec(`create temp table like_package as select c.* from copies c
		where c.form = 'package' and c.shelf_id is not null limit 1`)
	f.exec(`create temp table like_job as select * from jobs
		where state = 'done' and parent is null order by id limit 1`)
	for _, t := range []string{"like_copies", "like_host", "like_pool", "like_package", "like_job"} {
		f.needs(t)
	}
	if f.err != nil {
		return f.err
	}
	// Where each copy lies and what it is a copy of: two in five are alone, three have one beside them, and so on.
	f.exec(fmt.Sprintf(`create temp table plan_of as select n, (n %% (select count(*) from like_copies)) as k,
		(n::bigint * 7919) %% %[2]d as h, l, n - min(n) over (partition by l) as nth, n %% 1000 as m
		from (select n::bigint, case when n < %[1]d * 0.4 then n::bigint
			when n < %[1]d * 0.7 then (%[1]d * 0.4 + (n - %[1]d * 0.4) / 2)::bigint
			when n < %[1]d * 0.9 then (%[1]d * 0.6 + (n - %[1]d * 0.7) / 10)::bigint
			else (%[1]d * 0.7 + (n - %[1]d * 0.9) / 500)::bigint end as l
			from generate_series(0, %[1]d - 1) n) x`, size, hosts))
	f.exec(`create temp table made_copies as select p.*, pg_temp.fleet_id('copy', n) as id,
		pg_temp.fleet_id('lineage', l) as lineage, pg_temp.fleet_id('host', h) as host,
		pg_temp.fleet_id('pool', h) as pool,
		k.stem || '-' || lpad(l::text, 7, '0') || case when nth = 0 then '' else '-' || nth end as name,
		pg_temp.fleet_id('uuid', case when m = 500 then n - 1 else n end) as uuid,
		('06:5d:' || regexp_replace(lpad(to_hex(case when m = 500 then n - 1 else n end), 8, '0'),
			'(..)(..)(..)(..)', '\1:\2:\3:\4')) as mac,
		case when m < ` + fmt.Sprint(packages) + ` then 'package'
			when m < ` + fmt.Sprint(packages+strays) + ` then 'stray'
			when m < ` + fmt.Sprint(packages+strays+hollows) + ` then 'hollow' else 'registered' end as form,
		m between 900 and 899 + ` + fmt.Sprint(gones) + ` as gone
		from plan_of p join like_copies k using (k)`)
	f.indexed("hosts", func() {
		f.like("hosts", "like_host t, generate_series(0, $1 - 1) n", map[string]string{
			"id": `pg_temp.fleet_id('host', n)`, "name": `t.name || '-' || lpad(n::text, 6, '0')`,
			"address": `'127.0.0.1:1'`, "state": `'unreachable'`, "revision": `'fleet.' || n`, "bare": `'[]'`}, hosts)
	})
	f.like("pools", "like_pool t, generate_series(0, $1 - 1) n", map[string]string{
		"id": `pg_temp.fleet_id('pool', n)`}, hosts)
	f.like("pool_hosts", `(select x.* from pool_hosts x join like_pool l
		on (l.id, l.host_id) = (x.pool_id, x.host_id)) t, generate_series(0, $1 - 1) n`, map[string]string{
		"pool_id": `pg_temp.fleet_id('pool', n)`,
		"host_id": `pg_temp.fleet_id('host', n)`}, hosts)
	f.like("switches", `(select s.* from switches s join like_host h on h.id = s.host_id) t,
		generate_series(0, $1 - 1) n`, map[string]string{"host_id": `pg_temp.fleet_id('host', n)`}, hosts)
	f.like("shelves", `(select s.* from shelves s join like_package k on k.shelf_id = s.id) t,
		generate_series(0, $1 - 1) n`, map[string]string{"id": `pg_temp.fleet_id('shelf', n)`,
		"host_id": `pg_temp.fleet_id('host', n * 10)`, "name": `t.name || '-' || n`}, shelves)
	f.indexed("lineages", func() {
		f.exec(`insert into lineages (id, name) select lineage, min(name) from made_copies where nth = 0
			group by lineage`)
	})
	f.indexed("copies", f.copies)
	f.indexed("nics", func() {
		f.exec(`insert into nics (copy_id, position, mac) select id, 0, mac::macaddr from made_copies
			where form <> 'package'`)
	})
	f.indexed("copy_disks", func() {
		f.like("copy_disks", `copy_disks t join like_copies k on k.id = t.copy_id join made_copies m on m.k = k.k
			and m.form <> 'package'`, map[string]string{"copy_id": "m.id", "layers": "'{}'", "samples": "'[]'",
			"image_id": "pg_temp.fleet_id('image', m.n)::text",
			"path":     `k.path || '/../' || m.name || '/' || t.disk || '.qcow2'`,
			"tails":    `array[m.name || '/' || t.disk || '.qcow2']`})
	})
	f.indexed("disk_samples", func() {
		f.exec(fmt.Sprintf(`insert into disk_samples (hash, cell, copy_id)
			select hashint8extended(l * 64 + s, %d), s, id from made_copies, generate_series(1, %d) s
			where form <> 'package'`, seed, samplesOf))
	})
	f.like("jobs", `like_job t, made_copies m where m.n % `+fmt.Sprint(jobEvery)+` = 0`, map[string]string{
		"id": `pg_temp.fleet_id('job', m.n)`, "subject": `t.subject || '-' || m.n`, "idempotency_key": "null",
		"created_at": `t.created_at - m.n * interval '1 second'`, "new_copy": "null",
		"state": `case when m.n % 1000 = 0 then 'failed' else t.state end`, "finished_at": `t.finished_at - m.n *
		interval '1 second'`})
	f.like("steps", `(select s.* from steps s join like_job j on j.id = s.job_id) t, made_copies m
		where m.n % `+fmt.Sprint(jobEvery)+` = 0`, map[string]string{"job_id": `pg_temp.fleet_id('job', m.n)`,
		"host_id": "m.host"})
	f.like("audit", `(select * from audit where copy_id is not null order by id limit 1) t, made_copies m
		where m.n % `+fmt.Sprint(rowEvery)+` = 0`, map[string]string{"id": `pg_temp.fleet_id('audit', m.n)`,
		"copy_id": "m.id", "lineage_id": "m.lineage", "subject": "m.name",
		"at": `t.at - m.n * interval '1 second'`})
	f.exec(`set session_replication_role = origin`)
	f.exec(`vacuum analyze`)
	f.exec(`select shared_anew()`)
	f.exec(`analyze shared, last_copies`)
	return f.err
}

// copies are those that hosts list, and all others.
func (f *filler) copies() {
	made := map[string]string{"id": "m.id", "lineage_id": "m.lineage", "name": "m.name", "form": "m.form",
		"host_id": "m.host", "pool_id": "m.pool", "rel": "m.name", "uuid": "m.uuid", "path": `t.path || '-' || m.name`,
		"parent_id": `case when m.nth > 0 then pg_temp.fleet_id('copy', m.n - m.nth) end`,
		"made_at":   `t.made_at - m.n * interval '1 second'`, "tracked": `m.form <> 'stray' and m.m <> 600`,
		"gone_at": `case when m.gone then t.made_at end`, "size_bytes": "t.size_bytes + m.n",
		"state": `case when m.gone then 'unknown' when m.form <> 'registered' or m.n % 10 > 5 then 'stopped'
			else 'running' end`,
		"owner":        `case when m.n % 7 = 0 then 'team-' || m.h % 50 else '' end`,
		"candidate_id": `case when m.m = 700 then pg_temp.fleet_id('copy', m.n - 1) end`,
		"addresses": `case when m.n % 3 = 0 then array['10.' || m.n / 65536 || '.' || m.n / 256 % 256 || '.' ||
			m.n % 256] else '{}' end`,
		"machine": `jsonb_set(jsonb_set(jsonb_set(jsonb_set(t.machine, '{name}', to_jsonb(m.name)), '{uuid}',
			to_jsonb(m.uuid::text)), '{firmwareUuid}', to_jsonb(m.uuid::text)), '{nics,0,mac}', to_jsonb(m.mac))`}
	f.like("copies", `like_copies t join made_copies m using (k) where m.form <> 'package'`, made)
	made["machine"] = `jsonb_set(t.machine, '{name}', to_jsonb(m.name))`
	made["shelf_id"], made["pool_id"], made["rel"] = `pg_temp.fleet_id('shelf', m.h / 10)`, "null", "''"
	made["host_id"] = `pg_temp.fleet_id('host', m.h / 10 * 10)`
	made["path"] = `t.path || '/../' || m.name || '.ova'`
	made["state"], made["tracked"] = "t.state", "t.tracked"
	f.like("copies", `like_package t, made_copies m where m.form = 'package' and m.h / 10 < (
		select count(*) from shelves where name ~ '-[0-9]+$')`, made)
}

// filler carries a connection and the first error.
type filler struct {
	ctx  context.Context
	conn *pgx.Conn
	err  error
}

func (f *filler) exec(sql string, args ...any) {
	if f.err == nil {
		if _, err := f.conn.Exec(f.ctx, sql, args...); err != nil {
			f.err = fmt.Errorf("%w in\n%s", err, sql)
		}
	}
}

func (f *filler) list(sql string, args ...any) []string {
	if f.err != nil {
		return nil
	}
	r, err := f.conn.Query(f.ctx, sql, args...)
	var list []string
	if err == nil {
		list, err = pgx.CollectRows(r, pgx.RowTo[string])
	}
	f.err = err
	return list
}

// needs refuses an estate that has nothing of a kind.
func (f *filler) needs(table string) {
	if n := f.list("select count(*)::text from " + table); f.err == nil && n[0] == "0" {
		f.err = fmt.Errorf("the estate has nothing that %s could be made of", strings.TrimPrefix(table, "like_"))
	}
}

// like adds rows to a table that are as those of from, a query in which t is the row to be like, but for what set says.
func (f *filler) like(table, from string, set map[string]string, args ...any) {
	columns := f.list(`select column_name::text from information_schema.columns where table_schema = 'public'
		and table_name = $1 and is_generated = 'NEVER' order by ordinal_position`, table)
	values := make([]string, len(columns))
	for i, c := range columns {
		if values[i] = set[c]; values[i] == "" {
			values[i] = "t." + c
		}
	}
	f.exec("insert into "+table+" ("+strings.Join(columns, ", ")+") select "+strings.Join(values, ", ")+" from "+from,
		args...)
}

// indexed lets f fill a table that has no indexes meanwhile but those of constraints, which are quicker made at once.
func (f *filler) indexed(table string, fill func()) {
	made := f.list(`select pg_get_indexdef(i.indexrelid) from pg_index i where i.indrelid = $1::text::regclass
		and not exists (select 1 from pg_constraint c where c.conindid = i.indexrelid)`, table)
	names := f.list(`select i.indexrelid::regclass::text from pg_index i where i.indrelid = $1::text::regclass
		and not exists (select 1 from pg_constraint c where c.conindid = i.indexrelid)`, table)
	for _, n := range names {
		f.exec("drop index " + n)
	}
	fill()
	for _, sql := range made {
		f.exec(sql)
	}
}
