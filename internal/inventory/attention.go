package inventory

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/lineage"
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
	longUnseen   = 30 * 24 * time.Hour
	failedFor    = 7 * 24 * time.Hour
	oldSnapshot  = 30 * 24 * time.Hour
	mostOfACause = 500
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

// Attention lists what waits for a decision, worst first; with left also what
// somebody has left alone. cause narrows it to one.
func (inv *Inventory) Attention(ctx context.Context, cause Cause, left bool) ([]AttentionItem, error) {
	if cause != "" && rank(cause) == len(Causes) {
		var names []Cause
		for _, c := range Causes {
			names = append(names, c.Cause)
		}
		return nil, Wrong("There is no cause %q; there are %s.", cause, joined(names, ", "))
	}
	all := []AttentionItem{}
	for _, find := range []struct {
		causes []Cause
		f      func(context.Context) ([]AttentionItem, error)
	}{
		{[]Cause{CauseHollow}, inv.hollows}, {[]Cause{CauseStray, CauseUnsure, CauseLostDescriptor}, inv.strays},
		{[]Cause{CauseTwin}, inv.twinItems}, {[]Cause{CauseParentlessLayer, CauseDamagedDisk}, inv.faults},
		{[]Cause{CauseSharedDisk}, inv.sharedDisks}, {[]Cause{CauseChangedPackage}, inv.changedPackages},
		{[]Cause{CauseListedTwice}, inv.listedTwice},
		{[]Cause{CauseLastCopy}, inv.lastCopies}, {[]Cause{CauseLongUnseen}, inv.longUnseen},
		{[]Cause{CauseFailedJob}, inv.failedJobs}, {[]Cause{CauseHeldJob}, inv.heldJobs},
		{[]Cause{CauseClientAway}, inv.clientsAway}, {[]Cause{CauseLostDescriptor}, inv.bareFolders},
		{[]Cause{CauseUnreadFolder}, inv.unreadFolders}, {[]Cause{CauseFirstStart}, inv.firstStarts},
		{[]Cause{CausePoolFilling}, inv.poolsFilling}, {[]Cause{CauseOldSnapshot}, inv.oldSnapshots},
	} {
		if cause != "" && !slices.Contains(find.causes, cause) {
			continue
		}
		list, err := find.f(ctx)
		if err != nil {
			return nil, err
		}
		for _, i := range list {
			if cause == "" || i.Cause == cause {
				all = append(all, i)
			}
		}
	}
	leftAlone, err := inv.leftAlone(ctx)
	if err != nil {
		return nil, err
	}
	for i := range all {
		all[i].Title, all[i].Grave = Causes[rank(all[i].Cause)].Title, Causes[rank(all[i].Cause)].Grave
		if l, ok := leftAlone[all[i].ID]; ok {
			all[i].Left = &l
		}
	}
	all = slices.DeleteFunc(all, func(i AttentionItem) bool { return i.Left != nil && !left })
	slices.SortStableFunc(all, func(a, b AttentionItem) int {
		if n := rank(a.Cause) - rank(b.Cause); n != 0 {
			return n
		}
		return strings.Compare(a.Subject, b.Subject)
	})
	return all, nil
}

func (inv *Inventory) leftAlone(ctx context.Context) (map[string]AttentionLeave, error) {
	type line struct {
		ID, Reason, Who string
		Until           time.Time
	}
	list, err := rows[line](ctx, inv.Pool, `select id, reason, who, until from left_alone where until > now()`)
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

// hollows: where its files were found again in another pool, that is what to
// take; else the entry has no use.
func (inv *Inventory) hollows(ctx context.Context) ([]AttentionItem, error) {
	list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.form = 'hollow' and c.gone_at is null and c.tracked
		order by c.name limit $1`, mostOfACause)
	if err != nil {
		return nil, err
	}
	var items []AttentionItem
	for _, c := range list {
		i := AttentionItem{ID: "hollow:" + c.ID.String(), Cause: CauseHollow, Subject: c.Host + "/" + c.Name,
			Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen),
			Evidence:    fmt.Sprintf("%s lists %s, whose folder %s is not there; its pool is.", c.Host, c.Name, c.Path),
			Recommended: "Take the entry off the list", Act: &Act{Do: ActDelist, Copies: []string{c.ID.String()}}}
		found, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.form = 'stray' and c.gone_at is null
			and (c.uuid = $1::uuid
			or c.parent_id = $2 or c.lineage_id = $3) order by c.uuid = $1::uuid desc nulls last,
			c.host_id = $4 desc limit 1`, asUUID(c.UUID), c.ID, c.LineageID, c.HostID)
		if err != nil {
			return nil, err
		}
		if len(found) > 0 {
			f := found[0]
			i.Copies = append(i.Copies, f.ID)
			i.Evidence += fmt.Sprintf(" A folder of the same machine lies at %s.", f.Host+":"+f.Path)
			i.Recommended, i.Act = "Register the folder that was found, in its place",
				&Act{Do: ActRegister, Folder: f.ID.String(), Host: c.Host}
		}
		items = append(items, i)
	}
	return items, nil
}

func (inv *Inventory) strays(ctx context.Context) ([]AttentionItem, error) {
	list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.gone_at is null and (c.form = 'stray'
		or c.candidate_id is not null and c.form <> 'package') order by c.name, c.id limit $1`, mostOfACause)
	if err != nil {
		return nil, err
	}
	ids := make([]uuid.UUID, len(list))
	for n, c := range list {
		ids[n] = c.ID
	}
	off, err := inv.TakenOff(ctx, ids...)
	if err != nil {
		return nil, err
	}
	var items []AttentionItem
	for _, c := range list {
		i := AttentionItem{ID: "stray:" + c.ID.String(), Cause: CauseStray, Subject: c.Host + ":" + c.Path,
			Copies: []uuid.UUID{c.ID}, Since: since(c.MadeAt),
			Recommended: "Register it", Act: &Act{Do: ActRegister, Folder: c.ID.String(), Host: c.Host}}
		words := lineage.Words(c.Evidence)
		switch {
		case c.Candidate != nil:
			other, err := inv.CopyByID(ctx, c.Candidate.String())
			if err != nil {
				return nil, err
			}
			if other == nil {
				continue
			}
			i.ID, i.Cause, i.Copies = "unsure:"+c.ID.String(), "unsure", append(i.Copies, other.ID)
			i.Evidence = fmt.Sprintf("It may be a copy of %s: %s (%d of %d points).", other.Ref(), words, c.Score,
				lineage.Sure)
			i.Recommended, i.Act = "Say that it is a copy of "+other.Ref(),
				&Act{Do: ActRecognise, Copies: []string{c.ID.String()}, Candidate: other.ID.String()}
		case c.Problem != "":
			i.ID, i.Cause = "lost-descriptor:"+c.ID.String(), "lost-descriptor"
			i.Evidence = "Its descriptor can't be used: " + strings.TrimSuffix(c.Problem, ".") + "."
			i.Recommended = "Register it with a descriptor made anew"
		case off[c.ID].What != "":
			e := off[c.ID]
			i.Since = since(e.At)
			i.Evidence = fmt.Sprintf("%s listed it until %s took it off the list.", c.Host, e.Who)
			i.Recommended = "Register it again, as the copy that it is"
		case c.Parent != nil:
			parent, err := inv.CopyByID(ctx, c.Parent.String())
			if err != nil {
				return nil, err
			}
			i.Evidence = "It is a copy"
			if parent != nil {
				i.Evidence += " of " + parent.Ref()
				if parent.GoneAt == nil && parent.Form == lineage.Registered {
					i.Recommended = "Register it with a renewed identity"
				}
			}
			if words != "" {
				i.Evidence += ": " + words
			}
			i.Evidence += "."
		default:
			i.Evidence = "Nothing is known of where it comes from."
		}
		items = append(items, i)
	}
	return items, nil
}

// facetsFor is what has to be renewed where a facet is shared.
var facetsFor = map[string][]string{"MAC": {"mac"}, "machine UUID": {"uuid", "firmware-uuid", "mac", "disk-id",
	"generation-id"}}

// twinItems groups registered copies by the UUID or MAC that they share.
func (inv *Inventory) twinItems(ctx context.Context) ([]AttentionItem, error) {
	type line struct {
		Facet, Value string
		Copies       []uuid.UUID
		Names        []string
		Since        time.Time
	}
	list, err := rows[line](ctx, inv.Pool, `with uuids as materialized (select uuid from copies
		where form = 'registered'
		and gone_at is null and tracked and uuid is not null group by uuid having count(*) > 1 limit $1),
		macs as materialized (select mac from nics group by mac having count(*) > 1 limit $1)
		select * from (
		select 'machine UUID' as facet, c.uuid::text as value, array_agg(c.id order by c.made_at, c.id) as copies,
		array_agg(h.name || '/' || c.name order by c.made_at, c.id) as names, max(c.made_at) as since
			from uuids u join copies c on c.uuid = u.uuid join hosts h on h.id = c.host_id where c.form = 'registered'
			and c.gone_at is null and c.tracked group by c.uuid
		union all
		select 'MAC', n.mac::text, array_agg(c.id order by c.made_at, c.id), array_agg(h.name || '/' || c.name
		order by c.made_at, c.id), max(c.made_at)
			from macs m join nics n on n.mac = m.mac join copies c on c.id = n.copy_id join hosts h on h.id = c.host_id
			where c.form = 'registered' and c.gone_at is null
			and c.tracked group by n.mac having count(distinct c.id) > 1) x
		order by value limit $1`, mostOfACause)
	if err != nil {
		return nil, err
	}
	var items []AttentionItem
	at := map[string]int{}
	for _, l := range list {
		key := fmt.Sprint(l.Copies)
		facet := l.Facet + " " + l.Value
		if n, told := at[key]; told { // the same copies share more than one
			items[n].Act.Facets = facetsFor["machine UUID"] // all of them
			items[n].Evidence = strings.TrimSuffix(items[n].Evidence, ".") + " and the " + facet + "."
			continue
		}
		at[key] = len(items)
		last := len(l.Copies) - 1
		items = append(items, AttentionItem{ID: "twin:" + l.Copies[0].String() + "+" + l.Copies[last].String(),
			Cause:   CauseTwin,
			Subject: strings.Join(l.Names, ", "), Copies: l.Copies, Since: since(l.Since),
			Evidence:    fmt.Sprintf("They share the %s.", facet),
			Recommended: "Renew " + l.Names[last], Act: &Act{Do: ActRenew, Copies: []string{l.Copies[last].String()},
				Facets: facetsFor[l.Facet]}})
	}
	return items, nil
}

// faults of disks, as the hosts told them.
func (inv *Inventory) faults(ctx context.Context) ([]AttentionItem, error) {
	list, err := rows[CopyDisk](ctx, inv.Pool, copyDiskSQL+` join copies c on c.id = d.copy_id where d.faults <> '[]'
		and c.gone_at is null and c.tracked and c.form in ('registered', 'stray') order by d.copy_id,
		d.position limit $1`, mostOfACause)
	if err != nil {
		return nil, err
	}
	var items []AttentionItem
	for _, d := range list {
		c, err := inv.CopyByID(ctx, d.CopyID.String())
		if err != nil || c == nil {
			return nil, err
		}
		f := d.Faults[0]
		says, _, _ := strings.Cut(f.Message, ": unvora ")
		i := AttentionItem{ID: "damaged-disk:" + c.ID.String() + "/" + d.Disk, Cause: CauseDamagedDisk,
			Subject: c.Ref() + " " + d.Disk, Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen),
			Evidence: Sentence(says)}
		if c.Form != lineage.Registered {
			i.Subject = c.Host + ":" + c.Path + " " + d.Disk
		}
		switch {
		case strings.HasPrefix(f.Code, "disk.parent-"):
			i.ID, i.Cause = "parentless-layer:"+c.ID.String()+"/"+d.Disk, "parentless-layer"
			i.Recommended, i.Act = "Find its parent; unvora disk reparent then tells the layer", nil
			if f.Candidate != "" {
				i.Recommended, i.Act = "Take "+path.Base(f.Candidate)+" as its parent",
					&Act{Do: ActReparent, Copies: []string{c.ID.String()}, Folder: d.Path, Candidate: f.Candidate}
			}
		case f.Code == "disk.missing":
			i.Recommended = "Bring the file back, or detach the disk"
			i.Act = &Act{Do: ActDetach, Copies: []string{c.ID.String()}, Folder: d.Disk}
		default:
			i.Recommended = "Check it: unvora disk check " + d.Path
		}
		items = append(items, i)
	}
	return items, nil
}

func (inv *Inventory) sharedDisks(ctx context.Context) ([]AttentionItem, error) {
	type line struct {
		Path   string
		Host   string
		Copies []uuid.UUID
		Names  []string
	}
	list, err := rows[line](ctx, inv.Pool, `with twice as materialized (select path
		from copy_disks group by path having count(*) > 1 limit $1)
		select d.path, h.name as host, array_agg(c.id order by c.made_at) as copies, array_agg(c.name
		order by c.made_at) as names
		from twice join copy_disks d on d.path = twice.path join copies c on c.id = d.copy_id
		join hosts h on h.id = c.host_id
		where c.form = 'registered' and c.gone_at is null group by d.path, h.name having count(*) > 1
		order by d.path limit $1`, mostOfACause)
	var items []AttentionItem
	for _, l := range list {
		last := len(l.Copies) - 1
		items = append(items, AttentionItem{ID: "shared-disk:" + l.Host + ":" + l.Path, Cause: CauseSharedDisk,
			Subject: l.Host + ":" + l.Path, Copies: l.Copies,
			Evidence:    fmt.Sprintf("%s name the same file.", strings.Join(l.Names, " and ")),
			Recommended: fmt.Sprintf("Detach it from %s", l.Names[last]),
			Act:         &Act{Do: ActDetach, Copies: []string{l.Copies[last].String()}, Folder: l.Path}})
	}
	return items, err
}

func (inv *Inventory) changedPackages(ctx context.Context) ([]AttentionItem, error) {
	list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.form = 'package' and c.problem <> '' and c.gone_at is null
		order by c.name limit $1`, mostOfACause)
	var items []AttentionItem
	for _, c := range list {
		items = append(items, AttentionItem{ID: "changed-package:" + c.ID.String(), Cause: CauseChangedPackage,
			Subject: c.Ref(), Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen),
			Evidence: Sentence(c.Problem), Recommended: "Look at it (unvora inspect --verify), " +
				"and export its machine again"})
	}
	return items, err
}

// listedTwice: machines of which a second host says that it lists them too.
func (inv *Inventory) listedTwice(ctx context.Context) ([]AttentionItem, error) {
	list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.problem like $1 || '%' and c.gone_at is null
		order by c.name, c.id limit $2`, contested, mostOfACause)
	var items []AttentionItem
	for _, c := range list {
		other, says, _ := strings.Cut(strings.TrimPrefix(c.Problem, contested), ": ")
		items = append(items, AttentionItem{ID: "listed-twice:" + c.ID.String(), Cause: CauseListedTwice,
			Subject: c.Ref() + ", " + other, Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen),
			Evidence: Sentence(says), Recommended: fmt.Sprintf("Turn it off at %s if it runs there, then move it "+
				"there and back: unvora move %s --host %s", other, c.Ref(), other)})
	}
	return items, err
}

// lastCopies: lineages that had more than one copy, and have a single one left
// that is no package on a shelf.
func (inv *Inventory) lastCopies(ctx context.Context) ([]AttentionItem, error) {
	list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.tracked and c.form in ('registered', 'stray')
		and c.id = any(array(
		select (array_agg(id) filter (where gone_at is null and form <> 'hollow'))[1]
		from copies group by lineage_id having count(*) > 1 and count(*) filter (where gone_at is null
		and form <> 'hollow') = 1 limit $1)) order by c.name`, mostOfACause)
	var items []AttentionItem
	for _, c := range list {
		i := AttentionItem{ID: "last-copy:" + c.ID.String(), Cause: CauseLastCopy, Subject: c.Host + "/" + c.Name,
			Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen),
			Evidence: "All other copies of it are gone.", Recommended: "Export it to a shelf"}
		if c.Form == lineage.Registered {
			i.Act = &Act{Do: ActExport, Copies: []string{c.ID.String()}}
		}
		items = append(items, i)
	}
	return items, err
}

func (inv *Inventory) longUnseen(ctx context.Context) ([]AttentionItem, error) {
	list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.gone_at is null and c.host_id is not null
		and h.state = 'unreachable' and h.last_seen < now() - make_interval(secs => $2)
		order by c.last_seen limit $1`, mostOfACause, longUnseen.Seconds())
	var items []AttentionItem
	for _, c := range list {
		items = append(items, AttentionItem{ID: "long-unseen:" + c.ID.String(), Cause: CauseLongUnseen,
			Subject: c.Host + "/" + c.Name, Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen),
			Evidence:    fmt.Sprintf("%s has not answered since %s.", c.Host, c.LastSeen.Format("2 January 2006")),
			Recommended: "Start the agent there, or bring back what it had: unvora host rebuild " + c.Host})
	}
	return items, err
}

// ClientSilence is how long nothing may be heard of the computer that a job
// waits for until somebody is told.
const ClientSilence = time.Minute

func (inv *Inventory) unreadFolders(ctx context.Context) ([]AttentionItem, error) {
	type line struct {
		Host, Path string
		Since      *time.Time
	}
	list, err := rows[line](ctx, inv.Pool, `select h.name as host, path, h.last_seen as since from hosts h,
		unnest(h.unread) path where h.state = 'up' order by h.name, path limit $1`, mostOfACause)
	var items []AttentionItem
	for _, l := range list {
		items = append(items, AttentionItem{ID: "unread-folder:" + l.Host + ":" + l.Path, Cause: CauseUnreadFolder,
			Subject: l.Host + ":" + l.Path, Copies: []uuid.UUID{}, Since: l.Since,
			Evidence: "It could not be read in time: its drive or its " +
				"server stands still. What was known of it stays.",
			Recommended: "Look at the drive or the share there; the next survey tries again"})
	}
	return items, err
}

func (inv *Inventory) bareFolders(ctx context.Context) ([]AttentionItem, error) {
	type line struct {
		Host, Path string
		Disks      []string
	}
	list, err := rows[line](ctx, inv.Pool, `select distinct on (b ->> 'pool', regexp_replace(b ->> 'path', '^.*/',
		'')) h.name as host, b ->> 'path' as path, array(select jsonb_array_elements_text(b -> 'disks')) as disks
		from hosts h, jsonb_array_elements(h.bare) b
		where not exists (select 1 from copy_disks d join copies c on c.id = d.copy_id where c.gone_at is null
		and c.form <> 'package'
			and d.tails && array(select regexp_replace(b ->> 'path', '^.*/',
			'') || '/' || jsonb_array_elements_text(b -> 'disks')))
		and not exists (select 1 from copy_disks d, jsonb_array_elements(d.faults) f where d.faults <> '[]'
		and f ->> 'candidate' like (b ->> 'path') || '/%')
		and not exists (select 1 from loose_disks d where d.host_id = h.id and d.path like (b ->> 'path') || '/%')
		order by b ->> 'pool', regexp_replace(b ->> 'path', '^.*/', ''), h.added_at limit $1`, mostOfACause)
	var items []AttentionItem
	for _, l := range list {
		items = append(items, AttentionItem{ID: "lost-descriptor:" + l.Host + ":" + l.Path, Cause: CauseLostDescriptor,
			Subject: l.Host + ":" + l.Path, Copies: []uuid.UUID{},
			Evidence: fmt.Sprintf("It holds %s, which no machine names, and no descriptor.",
				strings.Join(l.Disks, ", ")),
			Recommended: "Make a machine around them, or adopt them",
			Act:         &Act{Do: ActRegister, Folder: l.Path, Host: l.Host}})
	}
	return items, err
}
