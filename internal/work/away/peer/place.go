package peer

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"path"
	"time"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
	"unvora.example/unvora/internal/work/reach"
)

// place is another Unvora.
type place struct {
	*Peers
	m *inventory.Manager
}

// Open makes a place of another Unvora.
func (p *Peers) Open(m *inventory.Manager) (away.Place, error) { return &place{p, m}, nil }

// peerVersion of the talk between Unvoras.
const peerVersion = "1"

func (p *place) Check(ctx context.Context) []reach.Check {
	c := &reach.Checks{}
	if !c.Reach(ctx, p.m.Address, "the other Unvora") {
		return c.List
	}
	conn, err := (&tls.Dialer{NetDialer: &net.Dialer{Timeout: reach.CheckPatience}, Config: p.tls}).DialContext(ctx,
		"tcp", p.m.Address)
	var authority *x509.Certificate
	if err == nil {
		state := conn.(*tls.Conn).ConnectionState()
		authority, err = hostlink.PeerAuthority(&state)
		conn.Close()
	}
	if err == nil && hostlink.EncodeAuthority(authority) != p.m.Certificate {
		err = errors.New("it is another Unvora than the one that was paired")
	}
	if err != nil {
		c.Said("certificate", false, "%v. Drop it and pair anew if it was set up afresh.", err)
		return c.List
	}
	c.Said("certificate", true, "it is the Unvora that was paired")
	holds, err := p.dial(p.m).Holds(ctx)
	if err != nil {
		c.Said("paired", false, "%v", err)
		return c.List
	}
	c.Said("paired", true, "both sides have paired")
	if holds.Version != peerVersion {
		c.Said("version", false, "it speaks version %s, this one %s: update the older one", holds.Version, peerVersion)
		return c.List
	}
	c.Said("version", true, "both speak version %s", peerVersion)
	n := 0
	for _, s := range holds.Hosts {
		n += len(s.Machines)
	}
	if holds.Take {
		c.Said("rights", true, "it lets us see %d copies, and take them", n)
	} else {
		c.Said("rights", true, "it lets us see %d copies, and not take them", n)
	}
	return c.List
}

// Survey asks the other Unvora what it granted.
func (p *place) Survey(ctx context.Context) (map[string]*hostlink.Survey, string, error) {
	h, err := p.dial(p.m).Holds(ctx)
	if err != nil {
		return nil, p.m.Version, err
	}
	if h.Version != peerVersion {
		return nil, h.Version, fmt.Errorf("it speaks version %s, this one %s: update the older one", h.Version,
			peerVersion)
	}
	return h.Hosts, h.Version, p.inv.LetsTake(ctx, p.m, h.Take)
}

// partOf names one machine's part of a job, for the other side.
func partOf(j *inventory.Job, part int) string { return fmt.Sprintf("%s.%d", j.ID, part) }

// read asks the other Unvora to be let read the copy that a job is about.
func (p *place) read(ctx context.Context, j *inventory.Job, part int, done int64) (*hostlink.PeerTicket, error) {
	rec, err := j.Recorded(part)
	if err != nil {
		return nil, err
	}
	c, err := p.inv.CopyByID(ctx, rec.Parent)
	if err != nil {
		return nil, err
	}
	if c == nil || c.Machine == nil || c.Machine.Passport == nil { // there, it may have another id than here
		return nil, fmt.Errorf("it is not known any more which copy of %s is meant", p.m.Name)
	}
	s := j.StepOf(part, plan.KindTakeImages)
	if s == nil {
		return nil, errors.New("the job does not ask to read anything")
	}
	do, err := inventory.DoOf[plan.TakeImages](s)
	if err != nil {
		return nil, err
	}
	return p.dial(p.m).Read(ctx, hostlink.PeerRead{Copy: c.Machine.Passport.Copy, Job: partOf(j, part), Who: j.UserName,
		Stop: do.Stop, Move: do.Move, Bytes: do.Bytes, Done: done})
}

// Source is where an agent reads a disk of the other Unvora's copy. Asking for it tells the other side how far it is.
func (p *place) Source(ctx context.Context, s *away.Step, _ string) (*away.Source, error) {
	var done int64
	for _, o := range s.Job.Steps {
		if o.Kind == plan.KindCarry && o.Part == s.Step.Part {
			done += o.Done
		}
	}
	t, err := p.read(ctx, s.Job, s.Step.Part, done)
	if err != nil { // cancelled there, say, or not granted any more
		return nil, p.refusal(err)
	}
	if t.From == nil {
		return nil, fmt.Errorf("%s is not ready to be read from", p.m.Name)
	}
	return &away.Source{Agent: t.From}, nil
}

// refusal makes a failure of what the other Unvora refuses.
func (p *place) refusal(err error) error {
	var fault *hostlink.Fault
	if errors.As(err, &fault) {
		return &away.Failure{Code: fault.Code, Message: fmt.Sprintf("%s refuses: %s", p.m.Name, fault.Message)}
	}
	return err
}

// steps is how each kind of step is carried out at another Unvora.
var steps = map[string]func(p *place, ctx context.Context, s *away.Step) (time.Duration, error){
	plan.KindTakeImages: (*place).takeImages,
	plan.KindTellPeer:   (*place).tell,
}

func (p *place) Do(ctx context.Context, s *away.Step) (time.Duration, error) {
	do, ok := steps[s.Step.Kind]
	if !ok {
		return 0, fmt.Errorf("nothing of the kind %s can be asked of another Unvora", s.Step.Kind)
	}
	rest, err := do(p, ctx, s)
	return rest, p.refusal(err)
}

// takeImages asks for a reading until it has begun.
func (p *place) takeImages(ctx context.Context, s *away.Step) (time.Duration, error) {
	t, err := p.read(ctx, s.Job, s.Step.Part, 0)
	if err == nil && t.Wait {
		return p.AskAgain, nil
	}
	return 0, err
}

// tell says that everything was read.
func (p *place) tell(ctx context.Context, s *away.Step) (time.Duration, error) {
	return 0, p.dial(p.m).End(ctx, partOf(s.Job, s.Step.Part), hostlink.PeerEnd{Done: true})
}

func (p *place) Undo(ctx context.Context, s *away.Step) error {
	if s.Step.Kind != plan.KindTakeImages {
		return nil
	}
	err := p.dial(p.m).End(ctx, partOf(s.Job, s.Step.Part),
		hostlink.PeerEnd{Error: "it was stopped there: " + s.Job.Error})
	var fault *hostlink.Fault
	if errors.As(err, &fault) {
		return nil // it knows nothing of it any more
	}
	return err
}

func (p *place) Look(_ context.Context, c *inventory.Copy) (*away.Standing, error) {
	s := &away.Standing{State: c.State, May: p.m.LetsTake, Peer: true, Paths: map[string]string{}}
	for _, d := range c.Machine.Disks {
		s.Paths[d.ID] = path.Join(c.Path, d.File)
	}
	return s, nil
}
