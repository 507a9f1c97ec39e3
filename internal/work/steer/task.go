package steer

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
)

const (
	lookEvery = time.Second
	atOnce    = 50 * time.Millisecond

	// clientPatience is how long nothing may be heard of the computer that a job
	// gives to, or takes from, until the job is undone.
	clientPatience = 10 * time.Minute
)

// atPlace carries the step on at a manager, where nobody of ours is.
func (r *run) atPlace(ctx context.Context) (wait, error) {
	place, err := r.away.OfHost(ctx, r.host)
	if err != nil {
		return nil, err
	}
	rest, err := place.Do(ctx, &away.Step{Job: r.j, Step: r.s, Again: r.again})
	if err != nil || rest > 0 {
		return pause(rest, err)
	}
	r.s.State = inventory.StepDone
	return nil, r.inv.UpdateStep(ctx, r.j.Epoch, r.s)
}

// spec is what the step's task is asked at an agent, without its parameters.
func (r *run) spec() hostlink.TaskSpec {
	return hostlink.TaskSpec{Job: r.j.ID.String(), Epoch: r.j.Epoch, Kind: r.s.Kind, Part: r.s.Part, Rate: r.j.Rate}
}

// atHost starts the step's task at the host's agent unless it is there, looks at it and records.
func (r *run) atHost(ctx context.Context) (wait, error) {
	var params any = r.s.DoWhat
	if task := rows[r.s.Kind].task; task != nil {
		var err error
		if params, err = task(ctx, r); err != nil {
			return nil, err
		}
	}
	raw, err := json.Marshal(params)
	if err != nil {
		return nil, err
	}
	agent := r.hosts.Agent(r.host)
	spec := r.spec()
	spec.Params, spec.Try = raw, r.j.Tries
	if spec.Rate, err = r.rate(ctx); err != nil {
		return nil, err
	}
	t, err := agent.Start(ctx, r.s.TaskID(), spec)
	if err == nil && t.State == hostlink.TaskRunning && t.Needs == nil {
		t, err = agent.Wait(ctx, r.s.TaskID(), atOnce) // a short one is over before the next tick would come
	}
	var fault *hostlink.Fault
	if errors.As(err, &fault) && fault.Code != hostlink.FaultStale {
		return nil, &away.Failure{Code: fault.Code, Message: fault.Message}
	}
	if err != nil {
		return nil, err
	}
	return r.watch(ctx, agent, t)
}

// watch records how far a task is.
func (r *run) watch(ctx context.Context, agent *hostlink.Host, t *hostlink.Task) (wait, error) {
	if t.Note != "" && !strings.Contains(r.s.What, t.Note) {
		r.s.What += " (" + t.Note + ")"
	}
	switch t.State {
	case hostlink.TaskFailed:
		return nil, &away.Failure{Code: t.Code, Message: t.Error}
	case hostlink.TaskDone:
		if _, err := r.inv.NeedClient(ctx, r.j, false); err != nil {
			return nil, err
		}
		return nil, r.taskDone(ctx, t)
	}
	if t.Done != r.s.Done {
		r.s.Done = t.Done
		r.s.Bytes = max(r.s.Bytes, t.Done)
		if err := r.inv.UpdateStep(ctx, r.j.Epoch, r.s); err != nil {
			return nil, err
		}
	}
	silent, err := r.inv.NeedClient(ctx, r.j, t.Needs != nil)
	if err != nil {
		return nil, err
	}
	if t.Needs == nil {
		id := r.s.TaskID()
		return func(ctx context.Context) { _, _ = agent.Wait(ctx, id, lookEvery) }, nil // the next tick asks again
	}
	if silent > clientPatience {
		return nil, &away.Failure{Code: "client.away",
			Message: fmt.Sprintf("nothing was heard of the computer of %s for %s", r.j.UserName, clientPatience)}
	}
	return sleep(lookEvery / 2), nil // bytes come from elsewhere: nothing to hurry for
}

// taskDone records that a task is done, with what that says of the copy.
func (r *run) taskDone(ctx context.Context, t *hostlink.Task) error {
	r.s.State, r.s.Result, r.s.Done = inventory.StepDone, t.Result, max(r.s.Bytes, t.Done)
	r.s.Bytes = max(r.s.Bytes, t.Done)
	return r.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := inventory.In(tx).PutStep(ctx, r.j.Epoch, r.s); err != nil {
			return err
		}
		if effect := rows[r.s.Kind].effect; effect != nil {
			return effect(ctx, tx, r, false)
		}
		return nil
	})
}
