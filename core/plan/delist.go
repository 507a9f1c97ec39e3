package plan

import (
	"fmt"
	"path"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// asideOf lists the disks of a copy in the directory that landing made for them
// in another pool. Those that lie anywhere else are not its own.
func asideOf(facts DelistFacts) (files []string) {
	if facts.Machine == nil {
		return nil
	}
	dir := path.Base(facts.Copy.Path) + "-disks"
	for _, d := range facts.Machine.Disks {
		if at := path.Join(facts.Copy.Path, d.File); path.Base(path.Dir(at)) == dir &&
			!strings.HasPrefix(at, facts.Copy.Path+"/") {
			files = append(files, at)
		}
	}
	return files
}

// DelistFacts is what Delist is worked out from.
type DelistFacts struct {
	Copy    lineage.Known
	Machine *machine.Machine // as last seen
	Host    HostFacts
	Busy    string
	Last    bool     // it is the lineage's last copy
	StoodOn []string // machines whose layers rest on its files
}

// Delist plans to take a copy off its host's list. Its files stay, or go to the
// trash of their pool.
func Delist(facts DelistFacts, trash bool, answers Answers, takeRecommended bool) (*Plan, error) {
	b := newBuilder(answers, takeRecommended)
	subject := facts.Copy.Host + "/" + facts.Copy.Name
	p := &Plan{Operation: "delist", Subjects: []string{subject}, Target: facts.Host.Name}
	b.reach(facts.Host)
	b.tracked(facts.Copy)
	b.busy(subject, facts.Busy)
	b.notSuspended(facts.Copy)
	if trash {
		b.stoodOn(subject, facts.StoodOn, "Leave its files where they are (--files keep), or make")
	}
	gone := trash || facts.Copy.Form == lineage.Hollow
	if gone && facts.Last && facts.Copy.Form != lineage.Hollow {
		whole := "by-name:" + facts.Copy.Name
		f := fit.Raise("source.last-copy", facts.Copy.Name, fmt.Sprintf("It is the last copy of its lineage. Keep its "+
			"files (--files keep), or type its name, %s.", facts.Copy.Name), map[string]any{"answer": whole})
		f.Suggest("by-name", "Go on, by typing its name: "+whole, "")
		f = b.raise(f, "")
		if f.Remedy() == "by-name" && f.Value() != facts.Copy.Name {
			return nil, fmt.Errorf("source.last-copy: %q is not the name of the copy", f.Value())
		}
	}
	power := Power{Copy: facts.Copy.ID, Folder: facts.Copy.Path}
	if facts.Copy.State.Active() {
		if b.running(subject, "It runs.", "") == stopped {
			p.Steps = append(p.Steps, stopStep(facts.Host.Name, subject, power))
		}
	}
	if facts.Copy.Form != lineage.Stray {
		p.Steps = append(p.Steps, Step{Host: facts.Host.Name, What: fmt.Sprintf("Take it off the list of %s",
			facts.Host.Name), Do: &Unlist{Folder: facts.Copy.Path}})
	}
	form := lineage.Stray
	if gone {
		form = ""
		if facts.Copy.Form != lineage.Hollow {
			p.Steps = append(p.Steps, Step{Host: facts.Host.Name, What: "Put its folder into the trash of its pool",
				Do: &TakeAway{Folder: facts.Copy.Path, Files: asideOf(facts)}})
		}
	}
	p.Steps = append(p.Steps, Step{What: "Note it in the inventory", Do: &Forget{Copy: facts.Copy.ID, Form: form}})
	p.Back = backFromDelist(facts, trash)
	return b.finish(p)
}

// stoodOn raises that others stand on files that would be taken away. or begins what is to be done, up to "make".
func (b *builder) stoodOn(subject string, who []string, or string) {
	if len(who) > 0 {
		b.raise(fit.Raise("copy.stood-on", subject, fmt.Sprintf("%s %s on its disks. %s those stand "+
			"alone first: unvora change COPY --stand-alone", listed(who), verb(len(who), "stands", "stand"), or),
			map[string]any{"copies": who}), "")
	}
}

func verb(n int, one, several string) string {
	if n == 1 {
		return one
	}
	return several
}
