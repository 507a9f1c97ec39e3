package plan

// RouseFacts is what Rouse is worked out from.
type RouseFacts struct {
	Copy PowerFacts
}

// Rouse plans to stop a copy that runs and to start it again.
func Rouse(facts RouseFacts, answers Answers, takeRecommended bool) (*Plan, error) {
	b := newBuilder(answers, takeRecommended)
	c := facts.Copy.Copy
	subject := c.Host + "/" + c.Name
	b.tracked(c)
	b.busy(subject, facts.Copy.Busy)
	power := Power{Copy: c.ID, Folder: c.Path}
	p := &Plan{Operation: "rouse", Subjects: []string{subject}, Target: c.Host}
	p.Steps = []Step{stopStep(c.Host, subject, power), againStep(c.Host, subject, power)}
	return b.finish(p)
}
