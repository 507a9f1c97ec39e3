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

// Open tells whether the finding still waits for an answer, or blocks.
func (f Finding) Open() bool {
	return f.Severity == Blocker || f.Severity == Choice && f.Answer == ""
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

var switches = []Remedy{
	takes(offer("switch", "Connect it to a switch"), "switch"),
	offer("unplugged", "Leave it unplugged"),
}

// catalogue says for each code how grave it is and what settles it. Where the
// recommendation depends on the case, Raise is told.
var catalogue = map[string]entry{
	"package.truncated":           entryOf(Blocker),
	"package.path-escape":         entryOf(Blocker),
	"package.entry-repeated":      entryOf(Blocker),
	"package.bomb":                entryOf(Blocker),
	"package.unknown":             entryOf(Blocker),
	"package.file-missing":        entryOf(Blocker),
	"package.file-unused":         entryOf(Note),
	"manifest.absent":             entryOf(Note),
	"manifest.mismatch":           entryOf(Blocker),
	"manifest.algorithm-weak":     entryOf(Note),
	"descriptor.malformed":        entryOf(Blocker),
	"descriptor.version":          entryOf(Blocker),
	"descriptor.section-required": entryOf(Choice, best("without", "Go on without it"), offer("refuse", "Refuse the package")),
	"descriptor.several-machines": entryOf(Blocker),
	"disk.format-unknown":         entryOf(Blocker),
	"disk.damaged":                entryOf(Blocker),
	"disk.encrypted":              entryOf(Blocker),
	"disk.unclean":                entryOf(Choice, best("replay", "Replay its log"), offer("refuse", "Refuse it")),
	"disk.empty":                  entryOf(Choice, best("leave-out", "Leave it out"), offer("keep", "Keep it")),
	"disk.in-use":                 entryOf(Blocker),
	"disk.parent-missing":         entryOf(Blocker, takes(offer("found", "Take the one found nearby"), "file"), takes(offer("file", "Choose a file"), "file"), offer("leave-out", "Leave the disk out")),
	"disk.parent-changed":         entryOf(Blocker, takes(offer("file", "Choose another"), "file"), explicitly("reparent", "Reparent it all the same: its data may make no sense on this parent")),
	"disk.chain-loop":             entryOf(Blocker),
	"disk.chain-deep":             entryOf(Choice, best("merge", "Merge it while copying"), offer("keep", "Keep it")),
	"disk.size-mismatch":          entryOf(Note),
	"cpu.too-many":                entryOf(Choice, takes(best("reduce", "Reduce them"), "number")),
	"memory.too-much":             entryOf(Choice, takes(best("reduce", "Reduce it"), "number")),
	"firmware.unsupported":        entryOf(Blocker),
	"nic.model":                   entryOf(Choice, best("replace", "Replace it")),
	"network.mapped":              entryOf(Note),
	"network.unmapped":            entryOf(Choice, append([]Remedy{offer("quarantine", "Connect it to quarantine")}, switches...)...),
	"network.ambiguous":           entryOf(Choice, switches...),
	"mac.in-use":                  entryOf(Choice, best("renew", "Give it a new MAC"), explicitly("keep", "Keep it: the two can't both run")),
	"mac.invalid":                 entryOf(Choice, best("renew", "Give it a new MAC")),
	"identity.origin-alive":       entryOf(Choice, best("renew", "Renew the identity"), offer("keep", "Keep the identity")),
	"identity.origin-gone":        entryOf(Choice, best("keep", "Keep the identity"), offer("renew", "Renew the identity")),
	"identity.origin-unknown":     entryOf(Choice, best("keep", "Keep the identity"), offer("renew", "Renew the identity")),
	"identity.uuid-in-use":        entryOf(Choice, best("renew", "Give it a new UUID"), explicitly("keep", "Keep it: the two can't both run")),
	"name.taken":                  entryOf(Choice, takes(best("rename", "Take a free name"), "text")),
	"name.unfit":                  entryOf(Choice, takes(best("rename", "Take a cleaned name"), "text")),
	"identity.collides":           entryOf(Blocker),
	"state.running":               entryOf(Choice, best("stop", "Stop it cleanly, and start it again afterwards")),
	"busy.job":                    entryOf(Blocker),
	"space.short":                 entryOf(Blocker),
	"space.short-later":           entryOf(Note),
	"host.unreachable":            entryOf(Blocker),
	"pool.away":                   entryOf(Blocker),
	"place.taken":                 entryOf(Blocker),
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
	return Finding{Code: code, Severity: e.severity, Subject: subject, Message: message, Detail: detail, Remedies: append([]Remedy{}, e.remedies...)}
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
			if value != "" {
				f.Detail[id] = value
			}
		}
	}
}

// Recommend makes one remedy the recommendation, or none for "".
func (f *Finding) Recommend(id string) {
	for i := range f.Remedies {
		f.Remedies[i].Recommended = f.Remedies[i].ID == id && !f.Remedies[i].Explicit
	}
}

// Value of an answer: what follows the colon, else the remedy's suggested value.
func (f Finding) Value() string {
	id, value, _ := strings.Cut(f.Answer, ":")
	if value == "" {
		value, _ = f.Detail[id].(string)
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
		if _, suggested := f.Detail[id]; r.Takes != "" && value == "" && !suggested {
			return fmt.Errorf("%s: the remedy %q needs a value: %s=%s:%s", f.Code, id, f.Code, id, strings.ToUpper(r.Takes))
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
