package plan

import (
	"path"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// plain are words that a shell takes as they are.
var plain = regexp.MustCompile(`^[\pL\pN@%+=:,./_-]+$`)

// commandLine writes a command of the client as it can be pasted into a shell.
func commandLine(words ...string) string {
	line := []string{"unvora"}
	for _, w := range words {
		if !plain.MatchString(w) {
			w = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
		line = append(line, w)
	}
	return strings.Join(line, " ")
}

// backFromDelist is how a copy comes onto its host's list again: as the one that it was.
func backFromDelist(facts DelistFacts, trash bool) string {
	folder := path.Base(facts.Copy.Path)
	pool, ok := facts.Host.Pool(facts.Copy.Pool)
	stray := facts.Copy.Form == lineage.Stray // no host listed it
	if facts.Copy.Form == lineage.Hollow || stray && !trash || !ok {
		return ""
	}
	restore := commandLine("trash", "restore", facts.Host.Name+"/"+folder)
	list := commandLine("register", pool.Name+"/"+folder, "--host", facts.Host.Name, "--identity", identity.Keep)
	switch {
	case stray:
		return restore
	case trash:
		return restore + " && " + list
	}
	return list
}

// backFromMove is how a machine comes to the place that it has left.
func backFromMove(facts MoveFacts, name string) string {
	from, words := facts.Host, []string{"move", facts.Host.Name + "/" + name}
	switch {
	case facts.From != nil:
		from = *facts.From
	case facts.Elsewhere != nil:
		from = facts.Elsewhere.Host
	}
	if from.ID != facts.Host.ID {
		words = append(words, "--host", from.Name)
	}
	if pool, ok := from.Pool(facts.Folder.Pool); ok && facts.Elsewhere == nil {
		words = append(words, "--pool", pool.Name)
	}
	return commandLine(words...)
}

// backFromChange is how a machine becomes again what it was; "" where one command can't say it: what was removed would
// have to be described, and ids that were given out are gone.
func backFromChange(facts ChangeFacts, req ChangeRequest, after *machine.Machine) string {
	before, of := facts.Machine, facts.Copy.Host+"/"+after.Name
	if facts.Attach != nil && req.Replace == "" {
		return commandLine("disk", "detach", of, after.Disks[len(after.Disks)-1].ID)
	}
	if i := slices.IndexFunc(before.Disks, func(d machine.Disk) bool { return d.ID == req.Detach }); i >= 0 {
		return commandLine("disk", "attach", of, path.Join(facts.Copy.Path, before.Disks[i].File))
	}
	rest := req // without what can be said the other way round
	rest.Operation, rest.Answers, rest.TakeRecommended = "", nil, false
	rest.Name, rest.CPUs, rest.MemoryBytes, rest.Wire, rest.Unplug = "", 0, 0, nil, nil
	for i, v := 0, reflect.ValueOf(rest); i < v.NumField(); i++ {
		switch f := v.Field(i); f.Kind() {
		case reflect.Slice, reflect.Map:
			if f.Len() > 0 {
				return ""
			}
		default:
			if !f.IsZero() {
				return ""
			}
		}
	}
	words := []string{"change", of}
	if after.Name != before.Name {
		words = append(words, "--name", before.Name)
	}
	if after.CPUs != before.CPUs {
		words = append(words, "--cpus", strconv.Itoa(before.CPUs))
	}
	if after.MemoryBytes != before.MemoryBytes {
		words = append(words, "--memory", strconv.FormatInt(before.MemoryBytes>>20, 10)+"MiB")
	}
	nic := backFromWiring(before, after, of)
	switch {
	case len(words) == 2:
		return nic
	case nic != "":
		return ""
	}
	return commandLine(words...)
}

// backFromWiring is how the one NIC that is connected otherwise comes to where it was; "" where several are.
func backFromWiring(before, after *machine.Machine, of string) (back string) {
	for i, was := range before.NICs {
		if i >= len(after.NICs) || after.NICs[i].Network == was.Network {
			continue
		}
		if back != "" {
			return ""
		}
		back = commandLine("nic", "wire", of, was.Name, was.Network)
		if was.Network == "" {
			back = commandLine("nic", "unplug", of, was.Name)
		}
	}
	return back
}
