package plan

// PutRight plans to put the disks of a copy right where they lie: a layer is told
// where its parent is, a log is replayed, tables are brought in order.
func PutRight(facts ChangeFacts, answers Answers, takeRecommended bool) (*Plan, error) {
	b := newBuilder(answers, takeRecommended)
	subject := facts.Copy.Host + "/" + facts.Copy.Name
	p := &Plan{Operation: "put-right", Subjects: []string{subject}, Target: facts.Host.Name}
	b.reach(facts.Host)
	b.tracked(facts.Copy)
	b.busy(subject, facts.Busy)
	m := facts.Machine.Clone()
	if facts.Copy.State.Active() {
		if b.running(subject, "It runs, and its disks change meanwhile.", "") == stopped {
			p.Steps = append(p.Steps, stopStep(facts.Host.Name, subject,
				Power{Copy: facts.Copy.ID, Folder: facts.Copy.Path}))
		}
	}
	for i := range m.Disks {
		d := &m.Disks[i]
		for _, fd := range facts.Folder.Disks {
			if fd.ID != d.ID {
				continue
			}
			x := &handling{disk: d, facts: FolderDisk{ID: fd.ID, File: fd.File, Path: fd.Path, Missing: fd.Missing,
				Problem: fd.Problem, ProblemCode: fd.ProblemCode, Pool: fd.Pool, Format: facts.Host.Family.Formats[0],
				VirtualBytes: max(1, d.VirtualBytes), Layers: fd.Layers, Faults: fd.Faults, Unclean: fd.Unclean}}
			d.VirtualBytes = x.facts.VirtualBytes // only what is wrong with the image matters here
			b.disk(x, facts.Host, true)
			p.Steps = append(p.Steps, prepare([]*handling{x}, facts.Host)...)
		}
	}
	for i := range b.findings { // a disk is put right here, and not left out
		b.findings[i].Withdraw("leave-out")
	}
	return b.finish(p)
}
