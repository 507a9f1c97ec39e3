package sight

import (
	"context"
	"slices"
	"strings"
	"time"
)

const (
	vouchEvery = 30 * time.Second // that one is looked for
	vouchQuiet = time.Minute      // that nothing was written to it
	vouchRate  = 48 << 20         // bytes a second: others want the drive too
)

// vouched is what was found of a package, as it was then.
type vouched struct {
	Stamp   string `json:"stamp"`
	Problem string `json:"problem"` // "" for none
}

func (a *Sight) vouch(ctx context.Context) {
	every := time.NewTicker(vouchEvery)
	defer every.Stop()
	for {
		for a.vouchOne(ctx, time.Now().Add(-vouchQuiet), vouchRate) && ctx.Err() == nil {
		}
		select {
		case <-every.C:
		case <-ctx.Done():
			return
		}
	}
}

// vouchOne reads one package that nobody has read as it is now, and that was not
// written to since quiet; false: there is none.
func (a *Sight) vouchOne(ctx context.Context, quiet time.Time, rate int64) bool {
	path, stamp := a.sweep.unread(quiet)
	if path == "" {
		return false
	}
	v := vouched{Stamp: stamp}
	o, err := a.Door.Package(path, a.Config.State)
	if err == nil {
		began, done := time.Now(), int64(0)
		err = o.Verify(ctx, func(n int64) {
			done += n
			due := time.Duration(float64(done) / float64(rate) * float64(time.Second))
			if rest := due - time.Since(began); rest > 10*time.Millisecond {
				select {
				case <-time.After(rest):
				case <-ctx.Done():
				}
			}
		})
		for _, d := range o.Deviations {
			if slices.Contains([]string{"manifest.mismatch", "package.file-missing"}, d.Code) {
				v.Problem = d.Subject + ": " + strings.TrimSuffix(d.Message, ".")
			}
		}
		_ = o.Close()
	}
	if ctx.Err() != nil {
		return false
	}
	if err != nil && v.Problem == "" {
		v.Problem = err.Error()
	}
	if err := a.Records.Put("vouched", path, v); err != nil {
		a.Log.Warn("note what a package is like", "path", path, "error", err)
		return false
	}
	a.sweep.tell(path, v)
	if v.Problem != "" {
		a.Log.Warn("a package is not as it was written", "path", path, "problem", v.Problem)
	}
	return true
}

// unread is a package that was not held against its manifest yet.
func (s *sweep) unread(quiet time.Time) (path, stamp string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for path, p := range s.packages {
		if !p.vouched && p.Machine != nil && p.writtenAt.Before(quiet) {
			return path, p.stamp
		}
	}
	return "", ""
}

// tell changes what is told of a package, if it is still as it was when it was read.
func (s *sweep) tell(path string, v vouched) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.packages[path]
	if p == nil || p.stamp != v.Stamp {
		return
	}
	if p.vouched = true; p.Problem != v.Problem {
		s.gen++
		p.Problem, p.gen = v.Problem, s.gen
	}
}
