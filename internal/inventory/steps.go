package inventory

import (
	"encoding/json"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"unvora.example/unvora/core/plan"
)

// DoOf decodes the parameters of a step, as its plan stated them.
func DoOf[T any](s *Step) (*T, error) {
	var t T
	if err := json.Unmarshal(s.DoWhat, &t); err != nil {
		return nil, fmt.Errorf("step %s: %w", s.ID, err)
	}
	return &t, nil
}

// ResultOf decodes the result of the step of a kind about one of the job's machines. Such a step without a result, or
// none at all, is an error.
func ResultOf[T any](j *Job, part int, kind string) (*T, error) {
	s := j.StepOf(part, kind)
	if s == nil || len(s.Result) == 0 {
		return nil, fmt.Errorf("the job has no result of the kind %s", kind)
	}
	var t T
	if err := json.Unmarshal(s.Result, &t); err != nil {
		return nil, fmt.Errorf("result of step %s: %w", s.ID, err)
	}
	return &t, nil
}

// StepOf is the first step of a kind about one of the job's machines; nil where there is none.
func (j *Job) StepOf(part int, kind string) *Step {
	for i := range j.Steps {
		if s := &j.Steps[i]; s.Kind == kind && s.Part == part {
			return s
		}
	}
	return nil
}

// Recorded is what the job writes into the inventory about one of its machines.
func (j *Job) Recorded(part int) (*plan.Record, error) {
	s := j.StepOf(part, plan.KindRecord)
	if s == nil {
		return nil, errors.New("the job has no step that records")
	}
	return DoOf[plan.Record](s)
}

// RecordedCopy is the copy that a record makes, or changes.
func RecordedCopy(r *plan.Record) uuid.UUID {
	for _, text := range []string{r.Copy, r.Made} {
		if id := OptionalID(text); id != nil {
			return *id
		}
	}
	return uuid.Nil
}

// add gives a job a step that was read.
func (j *Job) add(s Step) {
	j.Steps = append(j.Steps, s)
	if s.Kind != plan.KindRecord {
		return
	}
	if r, err := DoOf[plan.Record](&s); err == nil && r.Copy == "" {
		j.NewCopies = append(j.NewCopies, RecordedCopy(r))
	}
}

// OptionalID parses an id; nil for none.
func OptionalID(text string) *uuid.UUID {
	id, err := uuid.Parse(text)
	if err != nil {
		return nil
	}
	return &id
}

// Next is the step that is at work, or the first that waits; nil when all are done.
func (j *Job) Next() *Step {
	for i := range j.Steps {
		if s := j.Steps[i].State; s == StepWaiting || s == StepWorking {
			return &j.Steps[i]
		}
	}
	return nil
}
