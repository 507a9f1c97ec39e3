// Package fit judges whether a machine fits a place. It holds the catalogue of
// findings, with the remedies of each, and the families of hosts as data.
package fit

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Severities of a finding.
const (
	Blocker = "blocker" // cannot go on so
	Choice  = "choice"  // needs a decision
	Note    = "note"    // good to know
)

// Remedy settles a finding.
type Remedy struct {
	ID          string `json:"id"`
	Label       string `json:"label"`
	Recommended bool   `json:"recommended"`
	Explicit    bool   `json:"explicit"` // loses data or secrets: never recommended, never taken unasked
	Takes       string `json:"takes"`    // file, pool, switch, number, text, key, time; null in JSON when nothing
	Value       string `json:"value"`    // that is taken when none is given; "" where one has to be
}

// MarshalJSON writes null where there is nothing to take.
func (r Remedy) MarshalJSON() ([]byte, error) {
	type plain Remedy
	return json.Marshal(struct {
		plain
		Takes *string `json:"takes"`
	}{plain(r), orNull(r.Takes)})
}

func orNull(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// Finding is one thing about a plan that its user should know.
type Finding struct {
	Code     string         `json:"code"`
	Severity string         `json:"severity"`
	Subject  string         `json:"subject"`
	Message  string         `json:"message"`
	Detail   map[string]any `json:"detail"`
	Remedies []Remedy       `json:"remedies"`
	Answer   string         `json:"answer"` // REMEDY or REMEDY:VALUE; "" while it is open
}

// MarshalJSON writes null for an answer that is still open.
func (f Finding) MarshalJSON() ([]byte, error) {
	type plain Finding
	return json.Marshal(struct {
		plain
		Answer *string `json:"answer"`
	}{plain(f), orNull(f.Answer)})
}

// Open tells whether the finding still waits for an answer, or blocks. A
// blocker is settled only by one of its own remedies, if it has any.
func (f Finding) Open() bool {
	return f.Severity != Note && f.Answer == ""
}

// Recommendation is the answer that is taken when nobody gives another; "" if
// there is none.
func (f Finding) Recommendation() string {
	for _, r := range f.Remedies {
		if r.Recommended && !r.Explicit {
			return r.ID
		}
	}
	return ""
}

type entry struct {
	severity string
	remedies []Remedy
}

func offer(id, label string) Remedy       { return Remedy{ID: id, Label: label} }
func best(id, label string) Remedy        { return Remedy{ID: id, Label: label, Recommended: true} }
func takes(r Remedy, what string) Remedy  { r.Takes = what; return r }
func entryOf(s string, r ...Remedy) entry { return entry{s, r} }
func explicitly(id, label string) Remedy  { return Remedy{ID: id, Label: label, Explicit: true} }

func file(id, label string) Remedy { return takes(offer(id, label), "file") }

var (
	switches = []Remedy{
		takes(offer("switch", "Connect it to a switch"), "switch"),
		offer("unplugged", "Leave it unplugged"),
	}
	leaveOut  = offer("leave-out", "Leave the disk out")
	identityK = offer("keep", "Keep the identity")
	identityR = offer("renew", "Renew the identity")
)

// catalogue says for each code how grave it is and what settles it. Where the
// recommendation depends on the case, the one who raises it says so.
var catalogue = map[string]entry{
	"package.truncated":       entryOf(Blocker),
	"package.path-escape":     entryOf(Blocker),
	"package.entry-repeated":  entryOf(Blocker),
	"package.bomb":            entryOf(Blocker),
	"package.unknown":         entryOf(Blocker),
	"package.file-missing":    entryOf(Blocker, leaveOut),
	"package.file-unused":     entryOf(Note),
	"package.too-large":       entryOf(Blocker),
	"manifest.absent":         entryOf(Note),
	"manifest.incomplete":     entryOf(Note),
	"manifest.mismatch":       entryOf(Blocker, explicitly("accept", "Accept this file as it is")),
	"manifest.algorithm-weak": entryOf(Note),
	"certificate.invalid": entryOf(Choice, offer("accept", "Accept it all the same"),
		offer("refuse", "Refuse the package")),
	"certificate.untrusted": entryOf(Choice, best("accept", "Trust it this once"),
		offer("refuse", "Refuse the package")),

	"descriptor.malformed": entryOf(Blocker),
	"descriptor.version": entryOf(Choice, best("nearest", "Read it as the nearest version"),
		offer("refuse", "Refuse the package")),
	"descriptor.section-required": entryOf(Choice, best("without", "Go on without it"),
		offer("refuse", "Refuse the package")),
	"descriptor.item-required": entryOf(Choice, best("leave-out", "Leave it out"),
		offer("refuse", "Refuse the package")),
	"descriptor.several-machines": entryOf(Choice, best("all", "Bring in all of them"),
		takes(offer("some", "Only some"), "text")),
	"descriptor.deployment-options": entryOf(Choice, takes(best("pick", "Take one of them"), "text")),
	"descriptor.property-missing": entryOf(Choice, takes(offer("value", "Give it a value"), "text"),
		offer("empty", "Leave it empty")),
	"descriptor.eula": entryOf(Choice, explicitly("accept", "Accept the licence text"),
		offer("refuse", "Refuse the package")),
	"descriptor.lost": entryOf(Choice, best("record",
		"Rebuild it from the inventory's last record of this copy"), offer("disks", "Make a new one around the disks")),

	"file.outside":        entryOf(Blocker),
	"file.special":        entryOf(Blocker),
	"web.refused":         entryOf(Blocker),
	"disk.id-not-kept":    entryOf(Note),
	"disk.format-unknown": entryOf(Blocker, offer("raw", "Read it as raw"), leaveOut),
	"disk.format-foreign": entryOf(Choice, best("convert", "Convert it"), leaveOut),
	"disk.damaged": entryOf(Blocker, offer("repair", "Repair what can be repaired without guessing"),
		offer("salvage", "Salvage what can be read to a new image"), leaveOut),
	"disk.unclean":          entryOf(Choice, best("replay", "Replay its log"), offer("refuse", "Refuse it")),
	"disk.encrypted":        entryOf(Blocker, offer("carry", "Carry it as it is, unread"), leaveOut),
	"disk.nothing-bootable": entryOf(Note),
	"disk.empty":            entryOf(Choice, best("leave-out", "Leave it out"), offer("keep", "Keep it")),
	"disk.parent-missing": entryOf(Blocker, file("found", "Take the one found nearby"), file("file", "Choose a file"),
		leaveOut),
	"disk.parent-changed": entryOf(Blocker, file("file", "Choose another"),
		explicitly("reparent", "Reparent it all the same: its data may make no sense on this parent")),
	"disk.chain-loop":         entryOf(Blocker),
	"disk.chain-deep":         entryOf(Choice, best("merge", "Merge it while copying"), offer("keep", "Keep it")),
	"disk.in-use":             entryOf(Blocker),
	"disk.shared":             entryOf(Blocker, offer("copy", "Make a full copy of it"), leaveOut),
	"disk.parent-of-others":   entryOf(Blocker, offer("layer", "Put a new layer on it"), leaveOut),
	"disk.size-mismatch":      entryOf(Choice, best("image", "Trust the image")),
	"disk.size-over":          entryOf(Blocker, leaveOut),
	"disk.sector-size":        entryOf(Blocker, offer("convert", "Write it with sectors of 512 bytes"), leaveOut),
	"disk.outside-pool":       entryOf(Choice, best("copy", "Copy it in"), leaveOut),
	"disk.boot-unclear":       entryOf(Choice, takes(best("disk", "Start from the one with a boot record"), "text")),
	"disk.id-repeated":        entryOf(Choice, best("renew", "Give it a new id"), offer("keep", "Keep it")),
	"disk.leftover-reference": entryOf(Choice, best("eject", "Eject it"), file("file", "Choose a file")),
	"disk.depended-on":        entryOf(Note),
	"disk.missing":            entryOf(Blocker, file("file", "Point to the file"), leaveOut),

	"cpu.too-many":        entryOf(Choice, takes(best("reduce", "Reduce them"), "number")),
	"cpu.topology":        entryOf(Choice, takes(best("nearest", "The nearest that it can give"), "number")),
	"cpu.architecture":    entryOf(Blocker),
	"cpu.feature-missing": entryOf(Choice, best("without", "Go on without it")),
	"memory.too-much":     entryOf(Choice, takes(best("reduce", "Reduce it"), "number")),
	"memory.varying":      entryOf(Choice, takes(best("fix", "Fix it"), "number"), offer("keep", "Let it vary")),
	"size.class": entryOf(Choice, takes(best("nearest", "The nearest that holds it"), "text"),
		offer("custom", "A size of its own")),
	"firmware.unsupported":       entryOf(Blocker),
	"firmware.variables-missing": entryOf(Choice, best("fresh", "Make a fresh one"), offer("none", "Go on without")),
	"hardware.newer":             entryOf(Choice, takes(best("lower", "Lower it"), "number")),
	"hardware.older":             entryOf(Choice, takes(best("raise", "Raise it"), "number"), offer("keep", "Keep it")),
	"tpm.unsupported": entryOf(Blocker, explicitly("without",
		"Go on without it: the secrets in it are lost")),
	"tpm.key-missing":    entryOf(Blocker),
	"key.no-backup":      entryOf(Note),
	"nic.model":          entryOf(Choice, takes(best("replace", "Replace it"), "text")),
	"controller.model":   entryOf(Choice, takes(best("replace", "Replace it"), "text")),
	"device.needless":    entryOf(Choice, best("remove", "Remove it"), offer("keep", "Keep it")),
	"device.passthrough": entryOf(Choice, best("remove", "Remove it")),
	"device.host-path":   entryOf(Choice, best("remove", "Remove it"), file("elsewhere", "Point elsewhere")),
	"device.limit":       entryOf(Choice, takes(best("first", "Keep the first ones"), "number")),
	"guest.unknown": entryOf(Choice, takes(best("found", "As found on the disk"), "text"),
		takes(offer("choose", "Say which it is"), "text"), offer("unknown", "Leave it unknown")),
	"guest.stated-wrong": entryOf(Choice, takes(best("found", "As found on the disk"), "text"),
		offer("stated", "As stated")),
	"guest.driver-missing": entryOf(Choice, takes(best("replace", "A controller that it knows"), "text"),
		offer("keep", "Go on")),

	"network.mapped": entryOf(Note),
	"network.unmapped": entryOf(Choice, append([]Remedy{offer("quarantine", "Connect it to quarantine")},
		switches...)...),
	"network.ambiguous": entryOf(Choice, switches...),
	"network.segment-differs": entryOf(Choice, best("keep", "Keep it so"),
		takes(offer("switch", "Choose another switch"), "switch")),
	"network.switch-absent": entryOf(Choice, append([]Remedy{takes(offer("create", "Create it"), "text"),
		offer("quarantine", "Connect it to quarantine")}, switches...)...),
	"mac.in-use": entryOf(Choice, best("renew", "Give it a new MAC"),
		explicitly("keep", "Keep it: the two can't both run")),
	"mac.invalid": entryOf(Choice, best("renew", "Give it a new MAC")),
	"mac.licence-bound": entryOf(Choice, best("keep", "Keep it"),
		explicitly("renew", "Give it a new MAC: the licence or reservation is lost")),
	"network.cuts-admin": entryOf(Choice, best("return",
		"Do it, and take it back unless the host is reached again in time"),
		takes(offer("port", "Take another port"), "text")),
	"network.switch-in-use": entryOf(Blocker),
	"address.static": entryOf(Choice, offer("give", "Give it one of the segment's range"),
		offer("quarantine", "Connect it to quarantine"), best("keep", "Keep it")),
	"address.given":     entryOf(Note),
	"address.none-free": entryOf(Blocker),

	"identity.origin-alive":   entryOf(Choice, best("renew", "Renew the identity"), identityK),
	"identity.origin-gone":    entryOf(Choice, best("keep", "Keep the identity"), identityR),
	"identity.origin-unknown": entryOf(Choice, best("keep", "Keep the identity"), identityR),
	"identity.uuid-in-use": entryOf(Choice, best("renew", "Give it a new UUID"),
		explicitly("keep", "Keep it: the two can't both run")),
	"identity.activation": entryOf(Choice, best("keep", "Keep what it depends on"),
		explicitly("renew", "Renew it all the same: it may have to be activated again")),
	"identity.guest-inside": entryOf(Note),
	"identity.same-copy":    entryOf(Note),
	"identity.collides":     entryOf(Blocker),
	"name.taken":            entryOf(Choice, takes(best("rename", "Take a free name"), "text")),
	"name.from-snapshot": entryOf(Choice, takes(best("rename", "Take the machine's name"), "text"),
		offer("keep", "Keep it")),
	"owner.none": entryOf(Choice, takes(best("caller", "Make it the caller's"), "text"),
		takes(offer("give", "Say whose it is"), "text")),
	"quota.exceeded":    entryOf(Blocker, takes(offer("owner", "Make it another's"), "text")),
	"name.unfit":        entryOf(Choice, takes(best("rename", "Take a cleaned name"), "text")),
	"copy.already-here": entryOf(Blocker),
	"copy.untracked":    entryOf(Blocker),
	// the pool is one that both hosts see
	"copy.listed-elsewhere": entryOf(Blocker),
	"copy.left-behind":      entryOf(Note),
	"copy.hollow-here":      entryOf(Choice, best("replace", "Replace it"), offer("beside", "Leave it beside")),
	"copy.newer-elsewhere":  entryOf(Choice, best("go-on", "Go on"), offer("refuse", "Stop here and use that one")),

	"state.running": entryOf(Choice, best("stop", "Stop it cleanly, and start it again afterwards"),
		offer("moment", "Take its disks as they are at one moment, as after a power cut; it goes on running"),
		offer("follow", "Copy its disks while it runs; then stop it, send what it has written meanwhile, and start "+
			"it at its new place")),
	"manager.running": entryOf(Choice, best("stop", "Stop it there for as long as images of its disks are made, "+
		"and start it again"), offer("moment", "Take its disks as they are at one moment, as after a power cut; it "+
		"goes on "+
		"running")),
	"manager.stopped-only": entryOf(Note),
	"manager.rights":       entryOf(Blocker),
	"manager.ahead":        entryOf(Note),
	"manager.still-there": entryOf(Choice, takes(best("beside", "Put it beside, under another name and with new MACs"),
		"text"), explicitly("replace", "Put it in its place: the one that is there is removed, with its disks")),
	"state.suspended": entryOf(Choice, explicitly("drop",
		"Drop the suspended state: it starts afresh, and what was only in memory is lost")),
	"copy.stood-on":     entryOf(Blocker),
	"clone.not-layered": entryOf(Choice, best("whole", "Make a whole clone instead, which stands on its own")),
	"state.held":        entryOf(Blocker),
	"state.underway":    entryOf(Blocker),
	"state.not-running": entryOf(Blocker),
	"state.not-savable": entryOf(Blocker),
	"state.cut-off":     entryOf(Note),
	"state.live":        entryOf(Note),
	"state.left-behind": entryOf(Note),

	"first-start.read":     entryOf(Note),
	"first-start.unsure":   entryOf(Note),
	"first-start.by-hand":  entryOf(Note),
	"first-start.no-drive": entryOf(Blocker),

	"environment.told":   entryOf(Note),
	"environment.untold": entryOf(Note),

	"package.holds":       entryOf(Note),
	"package.free-space":  entryOf(Note),
	"package.weak-digest": entryOf(Note),

	"host.unable":       entryOf(Blocker),
	"snapshot.moment":   entryOf(Note),
	"snapshot.stood-on": entryOf(Blocker),
	"snapshot.present": entryOf(Choice, takes(best("keep", "Keep it as a snapshot first"), "text"),
		explicitly("let-go", "Let it go: what was written since is put into the trash")),
	"snapshot.unportable":  entryOf(Choice, takes(best("merge", "Merge them to the present state"), "text")),
	"busy.job":             entryOf(Blocker),
	"space.short":          entryOf(Blocker),
	"space.short-later":    entryOf(Note),
	"space.temporary":      entryOf(Blocker),
	"space.file-limit":     entryOf(Blocker),
	"pool.read-only":       entryOf(Blocker),
	"pool.resting":         entryOf(Blocker),
	"pool.foreign":         entryOf(Blocker),
	"pool.handed-over":     entryOf(Blocker),
	"pool.holds-disks":     entryOf(Blocker),
	"pool.disks-elsewhere": entryOf(Note),
	"pool.in-use":          entryOf(Choice, offer("stop", "Stop it cleanly")),
	"pool.lease-silent":    entryOf(Blocker, explicitly("take", "Take it: nothing runs from it")),
	"pool.away":            entryOf(Blocker),
	"pool.slow":            entryOf(Note),
	"pool.ownerless":       entryOf(Note),
	"path.too-long":        entryOf(Blocker),
	"host.unreachable":     entryOf(Blocker),
	"host.resting":         entryOf(Blocker),
	"host.unheard":         entryOf(Blocker),
	"host.silent": entryOf(Blocker, explicitly("off",
		"It is off: bring the machine up without asking it")),
	"host.older":           entryOf(Blocker),
	"host.clock":           entryOf(Note),
	"host.no-acceleration": entryOf(Choice, best("go-on", "Go on")),
	"permission.denied":    entryOf(Blocker),
	"source.last-copy":     entryOf(Blocker, takes(explicitly("by-name", "Go on, by typing its name"), "text")),
	"rebuild.lost":         entryOf(Choice, best("leave-out", "Go on without it")),
	"rebuild.switch":       entryOf(Choice, best("leave-out", "Go on without it")),
	"place.taken":          entryOf(Blocker),
	"trash.copy-elsewhere": entryOf(Note),
	"trash.gone":           entryOf(Blocker),
	"place.by-rule":        entryOf(Note),
	"place.by-spread":      entryOf(Note),
	"place.nowhere":        entryOf(Blocker),
}

// Raise makes the finding of a code. It panics on a code that the catalogue
// does not list: that is a mistake in the program.
func Raise(code, subject, message string, detail map[string]any) Finding {
	e, ok := catalogue[code]
	if !ok {
		panic("finding without an entry in the catalogue: " + code)
	}
	if detail == nil {
		detail = map[string]any{}
	}
	return Finding{Code: code, Severity: e.severity, Subject: subject, Message: message, Detail: detail,
		Remedies: append([]Remedy{}, e.remedies...)}
}

// Codes lists the catalogue, sorted.
func Codes() []string {
	codes := make([]string, 0, len(catalogue))
	for c := range catalogue {
		codes = append(codes, c)
	}
	slices.Sort(codes)
	return codes
}

// Describe returns a code's severity and remedies.
func Describe(code string) (severity string, remedies []Remedy) {
	return catalogue[code].severity, catalogue[code].remedies
}

// Suggest completes a remedy's label and makes value its default: "reduce to 8".
func (f *Finding) Suggest(id, label, value string) {
	for i := range f.Remedies {
		if f.Remedies[i].ID == id {
			f.Remedies[i].Label = label
			f.Remedies[i].Value = value
		}
	}
}

// Explicit makes all remedies explicit: whichever is taken, something is lost.
func (f *Finding) Explicit() {
	for i := range f.Remedies {
		f.Remedies[i].Explicit, f.Remedies[i].Recommended = true, false
	}
}

// Withdraw takes a remedy back that this case does not have.
func (f *Finding) Withdraw(id string) {
	f.Remedies = slices.DeleteFunc(f.Remedies, func(r Remedy) bool { return r.ID == id })
}

// Offer keeps only the remedies named.
func (f *Finding) Offer(ids ...string) {
	f.Remedies = slices.DeleteFunc(f.Remedies, func(r Remedy) bool { return !slices.Contains(ids, r.ID) })
}

// Recommend makes one remedy the recommendation, or none for "".
func (f *Finding) Recommend(id string) {
	for i := range f.Remedies {
		f.Remedies[i].Recommended = f.Remedies[i].ID == id && !f.Remedies[i].Explicit
	}
}

// Prefer makes one remedy the recommendation of this case, though in others it has to be named.
func (f *Finding) Prefer(id string) {
	for i := range f.Remedies {
		r := &f.Remedies[i]
		r.Explicit = r.Explicit && r.ID != id
	}
	f.Recommend(id)
}

// Value of an answer: what follows the colon, else the remedy's suggested value.
func (f Finding) Value() string {
	id, value, _ := strings.Cut(f.Answer, ":")
	for _, r := range f.Remedies {
		if r.ID == id && value == "" {
			return r.Value
		}
	}
	return value
}

// Remedy that was chosen; "" while the finding is open.
func (f Finding) Remedy() string {
	id, _, _ := strings.Cut(f.Answer, ":")
	return id
}

// Take answers the finding, if the remedy is one of its own and has the value it needs.
func (f *Finding) Take(answer string) error {
	id, value, _ := strings.Cut(answer, ":")
	for _, r := range f.Remedies {
		if r.ID != id {
			continue
		}
		if r.Takes != "" && value == "" && r.Value == "" {
			return fmt.Errorf("%s: the remedy %q needs a value: %s=%s:%s", f.Code, id, f.Code, id,
				strings.ToUpper(r.Takes))
		}
		f.Answer = answer
		return nil
	}
	ids := make([]string, len(f.Remedies))
	for i, r := range f.Remedies {
		ids[i] = r.ID
	}
	if len(ids) == 0 {
		return fmt.Errorf("%s on %s has no remedy that could be chosen", f.Code, f.Subject)
	}
	return fmt.Errorf("%s has no remedy %q; it offers %s", f.Code, id, strings.Join(ids, ", "))
}
