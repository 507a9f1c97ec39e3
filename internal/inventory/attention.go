package inventory

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// AttentionItem is one thing that waits for a decision.
type AttentionItem struct {
	ID          string          `json:"id"` // CAUSE:WHAT, the same each time it is found
	Cause       Cause           `json:"cause"`
	Title       string          `json:"title"` // of the cause
	Grave       bool            `json:"grave"` // something is broken
	Subject     string          `json:"subject"`
	Copies      []uuid.UUID     `json:"copies"`
	Evidence    string          `json:"evidence"`
	Recommended string          `json:"recommended"` // what to do, in words
	Act         *Act            `json:"act"`         // and for the program; nil when a person has to go and do it
	Since       *time.Time      `json:"since"`
	Left        *AttentionLeave `json:"left"` // somebody wants it left alone
}

// Action is what is recommended to be done about an item.
type Action string

// All actions. Those that are planned are operations, or lead to one.
const (
	ActRegister  Action = "register"
	ActDelist    Action = "delist"
	ActRenew     Action = "renew"
	ActExport    Action = "export"
	ActDetach    Action = "detach"
	ActDropOld   Action = "drop-old"  // drop a snapshot, whose name Folder is
	ActTold      Action = "told"      // put away what a machine was told at its first start
	ActReparent  Action = "reparent"  // take the candidate as the parent of a layer
	ActAgain     Action = "again"     // start a job like the one that failed
	ActRecognise Action = "recognise" // say what a copy was made from
	ActResume    Action = "resume"    // let a job try again
)

// Act is a recommended action with what it is about.
type Act struct {
	Do        Action   `json:"do"`
	Copies    []string `json:"copies"`
	Folder    string   `json:"folder,omitempty"`
	Host      string   `json:"host,omitempty"`
	Candidate string   `json:"candidate,omitempty"`
	Facets    []string `json:"facets,omitempty"`
}

// AttentionLeave records who left an item alone, why, and until when.
type AttentionLeave struct {
	Reason string    `json:"reason"`
	Who    string    `json:"who"`
	Until  time.Time `json:"until"`
}

// Cause is why something waits for a decision.
type Cause string

// All causes.
const (
	CauseHollow          Cause = "hollow"
	CauseHeldJob         Cause = "held-job"
	CauseClientAway      Cause = "client-away"
	CauseFailedJob       Cause = "failed-job"
	CauseUnreadFolder    Cause = "unread-folder"
	CauseParentlessLayer Cause = "parentless-layer"
	CauseSharedDisk      Cause = "shared-disk"
	CauseListedTwice     Cause = "listed-twice"
	CauseDamagedDisk     Cause = "damaged-disk"
	CauseTwin            Cause = "twin"
	CauseChangedPackage  Cause = "changed-package"
	CauseLastCopy        Cause = "last-copy"
	CauseUnsure          Cause = "unsure"
	CauseLostDescriptor  Cause = "lost-descriptor"
	CauseStray           Cause = "stray"
	CauseLongUnseen      Cause = "long-unseen"
	CauseFirstStart      Cause = "first-start"
	CausePoolFilling     Cause = "pool-filling"
	CauseOldSnapshot     Cause = "old-snapshot"
)

// Causes is the table of causes, worst first: over a list of such items, in a sentence, and whether something is
// broken.
var Causes = []struct {
	Cause        Cause
	Title, Means string
	Grave        bool
}{
	{CauseHollow, "Entries whose files are gone",
		"a host lists it, and its files are gone", true},
	{CauseHeldJob, "Jobs that can’t go on",
		"a job can't go on, and can't be taken back", true},
	{CauseClientAway, "Jobs that wait for somebody’s computer",
		"a job waits for the computer that it gives to, or takes from", false},
	{CauseFailedJob, "Jobs that failed",
		"a job failed; what it did was undone", true},
	{CauseUnreadFolder, "Folders that don’t let themselves be read",
		"a pool, a folder or a package that does not let itself be read", false},
	{CauseParentlessLayer, "Layers without their parent",
		"a disk's layer rests on a parent that is not there", true},
	{CauseSharedDisk, "Disks that two machines name",
		"two machines name the same disk: running both destroys it", true},
	{CauseListedTwice, "Machines that two hosts list",
		"two hosts list a machine in a pool that both see: only one of them starts it", true},
	{CauseDamagedDisk, "Disks that can’t be read as they are",
		"a disk can't be read as it is", true},
	{CausePoolFilling, "Pools that are nearly full",
		"machines run from a pool that has nearly no room left: one that finds none stands still", true},
	{CauseTwin, "Copies that share an identity",
		"copies share an identity facet and could both run", false},
	{CauseChangedPackage, "Packages that are not as they were written",
		"a package can't be read, or is not as it was written", false},
	{CauseLastCopy, "Last copies",
		"of all its copies this one is left, and no package", false},
	{CauseUnsure, "Copies of something, perhaps",
		"it may be a copy of a known machine; somebody has to say", false},
	{CauseLostDescriptor, "Disks that nothing describes",
		"a folder holds disks that nothing describes", false},
	{CauseStray, "Machine folders that no host lists",
		"a machine folder that no host lists", false},
	{CauseLongUnseen, "Not seen for long",
		"not seen for a long time", false},
	{CauseOldSnapshot, "Snapshots that were kept for long",
		"a machine stands on an old snapshot, and the layers above it grow", false},
	{CauseFirstStart, "Discs of a first start that is over",
		"a machine has started and is on its network, and what it was told for that still lies in its drive", false},
}

const (
	longUnseen  = 30 * 24 * time.Hour
	failedFor   = 7 * 24 * time.Hour
	oldSnapshot = 30 * 24 * time.Hour
)

// rank of a cause; that of none is behind all.
func rank(cause Cause) int {
	for n, c := range Causes {
		if c.Cause == cause {
			return n
		}
	}
	return len(Causes)
}

// finder reads items of a cause in the order of an index. Its SQL tells rows, each of which is an item.
type finder struct {
	cause Cause
	id    string    // SQL: of the item
	from  string    // SQL: tables, and the condition
	order [2]string // SQL: what the rows are in order by; together different for each
	kinds [2]string // of what they are in order by
	read  func(ctx context.Context, inv *Inventory, sql string, args []any) ([]AttentionItem, [2]string, error)
}

// finds makes the finder of a cause. place is of a row what order says; tell makes items of rows, one of each.
func finds[T any](f finder, columns string, place func(*T) [2]string, tell func(context.Context, *Inventory,
	[]T) ([]AttentionItem, error)) finder {
	f.read = func(ctx context.Context, inv *Inventory, sql string, args []any) ([]AttentionItem, [2]string, error) {
		list, err := rows[T](ctx, inv.Pool, "select "+columns+" from "+sql, args...)
		if err != nil || len(list) == 0 {
			return nil, [2]string{}, err
		}
		items, err := tell(ctx, inv, list)
		return items, place(&list[len(list)-1]), err
	}
	return f
}

// findsCopies makes the finder of a cause that copies are of, each by itself, in order of name.
func findsCopies(cause Cause, where string, tell func(context.Context, *Inventory, []Copy) ([]AttentionItem,
	error)) finder {
	return finds(finder{cause: cause, id: `'` + string(cause) + `:' || c.id`,
		from: copyList.from + " where c.gone_at is null and " + where, order: [2]string{"c.name", "c.id"},
		kinds: [2]string{"text", "uuid"}}, copyList.columns,
		func(c *Copy) [2]string { return [2]string{c.Name, c.ID.String()} }, tell)
}

// itemsOf makes an item of each row.
func itemsOf[T any](list []T, tell func(*T) AttentionItem) []AttentionItem {
	items := make([]AttentionItem, len(list))
	for i := range list {
		items[i] = tell(&list[i])
	}
	return items
}

// each makes items of rows that tell all that is to be said.
func each[T any](tell func(*T) AttentionItem) func(context.Context, *Inventory, []T) ([]AttentionItem, error) {
	return func(_ context.Context, _ *Inventory, list []T) ([]AttentionItem, error) {
		return itemsOf(list, tell), nil
	}
}

// finders are those of all causes, worst first; a cause may have several.
var finders = worstFirst(faultFinders, twinFinders, []finder{findHollows, findHeldJobs, findClientsAway, findFailedJobs,
	findUnreadFolders, findSharedDisks, findListedTwice, findPoolsFilling, findChangedPackages, findLastCopies,
	findUnsure, findLost, findBareFolders, findStrays, findLongUnseen, findOldSnapshots, findFirstStarts})

// notLeft is the condition that nobody wants an item of a finder left alone.
func (f finder) notLeft() string {
	return ` and (` + f.id + `) <> all(array(select id from left_alone where until > now()))`
}

// AttentionPage is which part of the list is wanted.
type AttentionPage struct {
	Cause Cause  // "" for all
	Left  bool   // also what somebody has left alone
	After string // the next of the page before
	Limit int    // 0 means 500, at most 1000
}

const usualAttention = 500

// attentionPlace is a place in the list: what was read last of a finder.
type attentionPlace struct {
	Finder int       `json:"f"`
	At     [2]string `json:"at"`
}

// Attention lists what waits for a decision, worst first. next is "" at the end.
func (inv *Inventory) Attention(ctx context.Context, p AttentionPage) (items []AttentionItem, next string, err error) {
	if err := p.check(); err != nil {
		return nil, "", err
	}
	at := attentionPlace{}
	if p.After != "" {
		raw, err := base64.RawURLEncoding.DecodeString(p.After)
		if err != nil || json.Unmarshal(raw, &at) != nil || !at.ok() {
			return nil, "", Wrong("%q is not the next of a page.", p.After)
		}
	}
	items = []AttentionItem{}
	past := p.After != ""
	for n := at.Finder; n < len(finders); n, past = n+1, false {
		f := finders[n]
		if p.Cause != "" && f.cause != p.Cause {
			continue
		}
		if len(items) == p.Limit { // there may be more: whoever asks on will see
			return items, attentionPlace{Finder: n}.String(), inv.noteLeft(ctx, items)
		}
		sql, args := f.from, []any{}
		if !p.Left {
			sql += f.notLeft()
		}
		if past && at.At != [2]string{} {
			sql += fmt.Sprintf(" and (%s, %s) > ($1::text::%s, $2::text::%s)", f.order[0], f.order[1], f.kinds[0],
				f.kinds[1])
			args = append(args, at.At[0], at.At[1])
		}
		sql += fmt.Sprintf(" order by %s, %s limit %d", f.order[0], f.order[1], p.Limit-len(items))
		wanted := p.Limit - len(items)
		found, last, err := f.read(ctx, inv, sql, args)
		if err != nil {
			return nil, "", fmt.Errorf("attention, %s: %w", f.cause, err)
		}
		for i := range found {
			found[i].Cause = f.cause
			found[i].Title, found[i].Grave = Causes[rank(f.cause)].Title, Causes[rank(f.cause)].Grave
		}
		items = append(items, found...)
		if len(found) == wanted {
			return items, attentionPlace{n, last}.String(), inv.noteLeft(ctx, items)
		}
	}
	return items, "", inv.noteLeft(ctx, items)
}

func (p *AttentionPage) check() error {
	if p.Cause != "" && rank(p.Cause) == len(Causes) {
		var names []Cause
		for _, c := range Causes {
			names = append(names, c.Cause)
		}
		return Wrong("There is no cause %q; there are %s.", p.Cause, joined(names, ", "))
	}
	if p.Limit == 0 {
		p.Limit = usualAttention
	}
	return checkLimit(p.Limit)
}

// ok tells whether it may be a place in the list.
func (a attentionPlace) ok() bool {
	if a.Finder < 0 || a.Finder >= len(finders) {
		return false
	}
	kinds := finders[a.Finder].kinds
	return a.At == [2]string{} || fits(kinds[0], a.At[0]) && fits(kinds[1], a.At[1])
}

func (a attentionPlace) String() string {
	raw, _ := json.Marshal(a) // numbers and strings
	return base64.RawURLEncoding.EncodeToString(raw)
}

// Waits is how many items of a cause wait for a decision, up to WaitsCap+1.
type Waits struct {
	Cause Cause  `json:"cause"`
	Title string `json:"title"`
	Grave bool   `json:"grave"`
	Count int    `json:"count"`
}

// WaitsCap is how far the items of a cause are counted.
const WaitsCap = 500

// AttentionCount counts what waits, by cause, worst first, without what was left alone.
func (inv *Inventory) AttentionCount(ctx context.Context) ([]Waits, error) {
	counts := make([]string, len(finders))
	for n, f := range finders {
		counts[n] = fmt.Sprintf("(select count(*) from (select 1 from %s limit %d) x)", f.from+f.notLeft(), WaitsCap+1)
	}
	var each []int
	if err := inv.Pool.QueryRow(ctx, "select array["+strings.Join(counts, ", ")+"]").Scan(&each); err != nil {
		return nil, err
	}
	list := []Waits{}
	for _, c := range Causes {
		w := Waits{c.Cause, c.Title, c.Grave, 0}
		for n, f := range finders {
			if f.cause == c.Cause {
				w.Count = min(w.Count+each[n], WaitsCap+1)
			}
		}
		if w.Count > 0 {
			list = append(list, w)
		}
	}
	return list, nil
}

// noteLeft tells of items who has left them alone.
func (inv *Inventory) noteLeft(ctx context.Context, items []AttentionItem) error {
	ids := make([]string, len(items))
	for i := range items {
		ids[i] = items[i].ID
	}
	left, err := inv.leftAlone(ctx, ids)
	for i := range items {
		if l, ok := left[items[i].ID]; ok {
			items[i].Left = &l
		}
	}
	return err
}

// KeepShared finds anew what is shared, and which copies are the last: what two transactions at the same moment have
// done is not seen by either.
func (inv *Inventory) KeepShared(ctx context.Context) error {
	_, err := inv.Pool.Exec(ctx, `select shared_anew()`)
	return err
}

func (inv *Inventory) leftAlone(ctx context.Context, ids []string) (map[string]AttentionLeave, error) {
	type line struct {
		ID, Reason, Who string
		Until           time.Time
	}
	list, err := rows[line](ctx, inv.Pool, `select id, reason, who, until from left_alone
		where id = any($1) and until > now()`, ids)
	all := map[string]AttentionLeave{}
	for _, l := range list {
		all[l.ID] = AttentionLeave{l.Reason, l.Who, l.Until}
	}
	return all, err
}

// Leave says that items are left as they are for a while, and why.
func (inv *Inventory) Leave(ctx context.Context, ids []string, reason string, until time.Time, who string) error {
	if strings.TrimSpace(reason) == "" {
		return Wrong("Say why it is left as it is: the reason is kept, and shown to whoever asks.")
	}
	if !until.After(time.Now()) {
		return Wrong("The term is over already.")
	}
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		for _, id := range ids {
			if cause, _, ok := strings.Cut(id, ":"); !ok || rank(Cause(cause)) == len(Causes) {
				return Refuse(CodeUnknown, "%q is no item of attention. unvora attention lists them.", id)
			}
			if _, err := tx.Exec(ctx, `insert into left_alone (id, reason, who, until) values ($1, $2, $3, $4)
				on conflict (id)
				do update set reason = excluded.reason, who = excluded.who, at = now(),
				until = excluded.until`, id, reason, who, until); err != nil {
				return err
			}
			if err := In(tx).Audit(ctx, Entry{Who: who, What: "attention leave", Subject: id, Why: reason,
				Detail: map[string]any{"until": until}}); err != nil {
				return err
			}
		}
		return In(tx).Emit(ctx, "attention", "", map[string]any{"left": len(ids)})
	})
}

func since(t time.Time) *time.Time { return &t }
