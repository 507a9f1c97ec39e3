package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
)

type importFlags struct {
	host, pool, name, identity, memory string
	facets, wire, disks                []string
	cpus                               int
}

func (a *app) importCmd() *cobra.Command {
	s, o := &settling{}, &importFlags{}
	cmd := &cobra.Command{
		Use:   "import SOURCE --host HOST",
		Short: "Make a registered copy from a package",
		Long: `Make a registered copy from a package: its disks in the host's own format, on
the right switch, with an identity that collides with nobody's.

SOURCE is a file or folder on this computer, or a package of the inventory
(loft/tide-gauge.ova). The plan comes first; open choices are asked on a terminal,
and end the call with status 3 elsewhere.`,
		Example: "  unvora import ./tide-gauge.ova --host petrel --plan\n  unvora import loft/tide-gauge.ova --host petrel --name tide-gauge-test --yes",
		Args:    cobra.ExactArgs(1),
	}
	o.flags(a, cmd)
	s.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		req, err := o.request(openapi.RequestOperationImport)
		if err != nil {
			return err
		}
		return a.bringIn(cmd.Context(), args[0], req, s)
	}
	return cmd
}

func (o *importFlags) flags(a *app, cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&o.host, "host", "", "host to bring it to (needed)")
	f.StringVar(&o.pool, "pool", "", "pool for its folder; the host's first that is ready unless said")
	f.StringVar(&o.name, "name", "", "name of the copy; as it was unless said")
	f.StringVar(&o.identity, "identity", "", "keep or renew")
	f.StringArrayVar(&o.facets, "facet", nil, "one facet: uuid, firmware-uuid, mac, disk-id, generation-id or tpm=keep or renew")
	f.StringArrayVar(&o.disks, "disk", nil, "DISK=POOL, DISK=POOL:FORMAT or DISK=:FORMAT")
	f.StringArrayVar(&o.wire, "wire", nil, "NIC=SWITCH")
	f.IntVar(&o.cpus, "cpus", 0, "number of CPUs; as it was unless said")
	f.StringVar(&o.memory, "memory", "", "memory, such as 2GiB; as it was unless said")
	cmd.MarkFlagRequired("host")
	cmd.RegisterFlagCompletionFunc("host", a.completeHosts())
	cmd.RegisterFlagCompletionFunc("identity", cobra.FixedCompletions([]string{"keep", "renew"}, cobra.ShellCompDirectiveNoFileComp))
}

func (o *importFlags) request(operation openapi.RequestOperation) (*openapi.Request, error) {
	req := &openapi.Request{Operation: operation, Host: &o.host, Pool: &o.pool, Name: &o.name, Cpus: &o.cpus}
	if o.identity != "" && o.identity != identity.Keep && o.identity != identity.Renew {
		return nil, usage("--identity %q: keep or renew", o.identity)
	}
	req.Identity = ptr(openapi.RequestIdentity(o.identity))
	var err error
	if req.Facets, err = pairs("--facet", o.facets); err != nil {
		return nil, err
	}
	if req.Wire, err = pairs("--wire", o.wire); err != nil {
		return nil, err
	}
	if req.Disks, err = pairs("--disk", o.disks); err != nil {
		return nil, err
	}
	if o.memory != "" {
		bytes, err := ParseSize(o.memory)
		if err != nil {
			return nil, usage("--memory: %v", err)
		}
		req.MemoryBytes = &bytes
	}
	return req, nil
}

func pairs(flag string, list []string) (*map[string]string, error) {
	m := map[string]string{}
	for _, text := range list {
		k, v, ok := strings.Cut(text, "=")
		if !ok || k == "" || v == "" {
			return nil, usage("%s %q: want NAME=VALUE", flag, text)
		}
		m[k] = v
	}
	return &m, nil
}

// ParseSize reads 2GiB, 512MiB, 2G (binary too) or a number of bytes.
func ParseSize(text string) (int64, error) {
	clean := strings.TrimSuffix(strings.TrimSuffix(strings.ToUpper(strings.ReplaceAll(text, " ", "")), "IB"), "B")
	shift := 0
	if i := strings.IndexAny(clean, "KMGT"); i > 0 && i == len(clean)-1 {
		shift = 10 * (strings.IndexByte("KMGT", clean[i]) + 1)
		clean = clean[:i]
	}
	n, err := strconv.ParseInt(clean, 10, 64)
	if err != nil || n <= 0 || n > 1<<(62-shift) {
		return 0, fmt.Errorf("%q is no size such as 2GiB", text)
	}
	return n << shift, nil
}

func (a *app) bringIn(ctx context.Context, source string, req *openapi.Request, s *settling) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	var opened *ovf.Opened
	if isLocal(source) {
		opened, err = ovf.OpenPath(source)
		var p *ovf.Problem
		switch {
		case errors.As(err, &p):
			return a.refusePackage(source, *req.Host, p, s)
		case err != nil:
			return &exit{statusFailed, err}
		}
		defer opened.Close()
		skeleton, err := asSkeleton(&opened.Skeleton)
		if err != nil {
			return err
		}
		req.Source = &openapi.Source{Upload: skeleton}
	} else {
		req.Source = &openapi.Source{Package: &source}
	}
	p, err := a.settle(ctx, c, req, s)
	if p == nil || err != nil {
		return err
	}
	if s.detach && opened != nil {
		return usage("--detach goes with a package of the inventory: a file on this computer is sent by this command")
	}
	j, err := a.start(ctx, c, req)
	if err != nil {
		return err
	}
	if s.detach {
		return a.detached(j)
	}
	var transfer func(context.Context) error
	if opened != nil {
		transfer = func(ctx context.Context) error { return a.givePackage(ctx, c, j.Id, opened) }
	}
	done, err := a.follow(ctx, c, j, transfer)
	if err != nil {
		return err
	}
	if done.NewCopy == nil {
		return a.print(done, func() {})
	}
	return a.registered(ctx, c, done)
}

// isLocal: a path that is there, or is written like one.
func isLocal(source string) bool {
	if strings.HasPrefix(source, ".") || strings.HasPrefix(source, "/") {
		return true
	}
	_, err := os.Stat(source)
	return err == nil
}

// refusePackage tells of a package that can't be read, as the plan would.
func (a *app) refusePackage(source, host string, problem *ovf.Problem, s *settling) error {
	p, err := plan.Import(plan.ImportFacts{Problem: problem, Where: source, Arrival: plan.Arrival{Host: plan.HostFacts{Name: host, State: "up"}}}, plan.BringRequest{})
	if err != nil {
		return err
	}
	raw, err := json.Marshal(p)
	if err != nil {
		return err
	}
	var view openapi.Plan
	if err := json.Unmarshal(raw, &view); err != nil {
		return err
	}
	if s.planOnly {
		if err := a.print(view, func() { a.showPlan(view) }); err != nil {
			return err
		}
		return &exit{statusBlocked, errors.New("")}
	}
	return &exit{statusBlocked, fmt.Errorf("%v (%s). Nothing was changed; fetch the package again, or choose another", problem, problem.Code)}
}

func asSkeleton(s *ovf.Skeleton) (*openapi.Skeleton, error) {
	raw, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	var out openapi.Skeleton
	return &out, json.Unmarshal(raw, &out)
}

// givePackage sends what the job needs, from wherever it needs it on, until it
// needs nothing more.
func (a *app) givePackage(ctx context.Context, c *caller, job string, o *ovf.Opened) error {
	for ctx.Err() == nil {
		over := false
		err := a.retry(ctx, func() error {
			res, err := c.GetTransfer(ctx, job, &openapi.GetTransferParams{Wait: ptr(10)})
			t, err := call[openapi.Transfer](c, res, err)
			if err != nil {
				return err
			}
			if t.Need == nil {
				over = t.State == "done" || t.State == "failed" || t.State == "cancelled"
				return nil
			}
			e, ok := o.Entry(strings.TrimPrefix(t.Need.Entry, "./"))
			if !ok {
				return &fs.PathError{Op: "find", Path: t.Need.Entry, Err: fs.ErrNotExist}
			}
			src, err := o.Source(e)
			if err != nil {
				return err
			}
			body := io.NewSectionReader(src, t.Need.Offset, e.Size-t.Need.Offset)
			res, err = c.SendBytesWithBody(ctx, job, &openapi.SendBytesParams{Offset: t.Need.Offset}, "application/octet-stream", body)
			_, err = call[struct{}](c, res, err)
			return err
		})
		if err != nil || over {
			return err
		}
	}
	return nil
}
