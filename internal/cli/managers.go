package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/cimi/standin"
)

func init() {
	register(groupLook, (*app).managersCmd)
	register(groupSend, (*app).putBackCmd)
	register(groupCare, (*app).managerCmd)
	register(groupRun, (*app).standinCmd)
}

func (a *app) managersCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "managers [NAME]",
		Short:             "List other management servers; with a name, one in full",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeManagers(),
		Example:           "  unvora managers\n  unvora managers mainland"}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		if len(args) == 1 {
			return a.showManager(cmd.Context(), c, args[0])
		}
		res, err := c.ListManagers(cmd.Context())
		managers, err := call[[]openapi.Manager](c, res, err)
		if err != nil {
			return err
		}
		return a.print(managers, func() {
			if len(managers) == 0 {
				fmt.Fprintln(a.out, "No managers. Add a foreign one: unvora manager add NAME ADDRESS --account "+
					"ACCOUNT; or pair "+
					"with another Unvora: unvora manager code")
				return
			}
			t := a.table("manager", "state", "speaks", "hosts", "machines", "last seen").dropping("last seen", "speaks")
			for _, m := range managers {
				t.AppendRow([]any{a.paint(bold, m.Name), a.state(string(m.State)), speaks(m), dash(hostsOf(m)),
					m.Copies, seenAt(m)})
			}
			t.Render()
			for _, m := range managers {
				if m.Problem != "" {
					fmt.Fprintf(a.out, "%s: %s\n", m.Name, m.Problem)
				}
			}
		})
	}
	return cmd
}

func speaks(m openapi.Manager) string {
	if m.Kind == "unvora" {
		return "Unvora"
	}
	return "CIMI " + m.Version
}

// hostsOf leaves out the manager's name, which stands beside.
func hostsOf(m openapi.Manager) string {
	names := make([]string, len(m.Hosts))
	for i, h := range m.Hosts {
		names[i] = strings.TrimSuffix(h, "@"+m.Name)
	}
	return strings.Join(names, ", ")
}

func seenAt(m openapi.Manager) string {
	if m.LastSeen == nil {
		return "never"
	}
	return ago(*m.LastSeen)
}

func (a *app) showManager(ctx context.Context, c *caller, name string) error {
	res, err := c.GetManager(ctx, name)
	m, err := call[openapi.ManagerDetail](c, res, err)
	if err != nil {
		return err
	}
	copies, _, err := list[openapi.Copy](a, c, func(limit int, after *string) (*http.Response, error) {
		return c.ListCopies(ctx, &openapi.ListCopiesParams{Limit: &limit, After: after,
			Filter: ptr("manager=" + m.Name)})
	})
	if err != nil {
		return err
	}
	return a.print(m, func() {
		plain := openapi.Manager{Kind: openapi.ManagerKind(m.Kind), Version: m.Version, LastSeen: m.LastSeen}
		fmt.Fprintf(a.out, "%s  %s  speaks %s at %s", a.paint(bold, m.Name), a.state(string(m.State)), speaks(plain),
			m.Address)
		if m.Account != "" {
			fmt.Fprintf(a.out, ", asked as %s", m.Account)
		}
		fmt.Fprintf(a.out, ", last seen %s\n", seenAt(plain))
		if m.Problem != "" {
			fmt.Fprintln(a.out, a.paint(red, m.Problem))
		}
		if m.Kind == "unvora" {
			fmt.Fprintln(a.out, "granted to it here: "+grantsOf(m.Grants))
		}
		fmt.Fprintln(a.out)
		fetched := map[string]time.Time{}
		for _, x := range m.Ahead {
			fetched[x.Copy] = x.At
		}
		t := a.table("machine", "host", "state", "size", "fetched ahead")
		for _, k := range copies {
			ahead := "–"
			if at, ok := fetched[k.Id]; ok {
				ahead = ago(at)
			}
			t.AppendRow([]any{a.paint(bold, k.Name), strings.TrimSuffix(k.Host, "@"+m.Name), a.state(string(k.State)),
				size(k.SizeBytes), ahead})
		}
		t.Render()
		if len(copies) > 0 {
			fmt.Fprintf(a.out, "\nBring one in: unvora import --from %s %s --host HOST\n", m.Name, copies[0].Name)
		}
	})
}

func grantsOf(g *openapi.Grants) string {
	if g == nil || g.See == nil || *g.See == "" {
		return "nothing"
	}
	if g.Take != nil && *g.Take {
		return "to see and take " + *g.See
	}
	return "to see " + *g.See
}

func (a *app) completeManagers() cobra.CompletionFunc {
	return a.complete(func(ctx context.Context, c *caller, _ string) ([]string, error) {
		res, err := c.ListManagers(ctx)
		list, err := call[[]openapi.Manager](c, res, err)
		var names []string
		for _, m := range list {
			names = append(names, m.Name)
		}
		return names, err
	})
}

func (a *app) managerCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "manager",
		Short: "Add, check, pair and drop other management servers",
		Example: "  unvora manager add mainland https://mainland.example:8443/cimi --account skerrow\n" +
			"  unvora manager check mainland"}
	cmd.AddCommand(a.managerAddCmd(), a.managerCheckCmd())
	cmd.AddCommand(a.pairCmds()...)
	cmd.AddCommand(calling(a, &cobra.Command{Use: "drop NAME",
		Short:             "Forget a manager; copies that came from it stay",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeManagers(),
		Example:           "  unvora manager drop mainland\n  unvora manager drop island"},
		func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
			return c.DropManager(cmd.Context(), args[0])
		}, func(args []string, _ struct{}) {
			fmt.Fprintf(a.out, "%s is forgotten, and what it was asked with too.\n", args[0])
		}))
	return cmd
}

func (a *app) managerAddCmd() *cobra.Command {
	var account, trust string
	var token bool
	cmd := &cobra.Command{Use: "add NAME ADDRESS",
		Short: "Add a foreign manager that speaks CIMI",
		Args:  cobra.ExactArgs(2),
		Long: `Add a foreign manager that speaks DMTF's CIMI, in version 2.0 or newer. ADDRESS is the
URL of its cloud entry point. Its password, or token, is asked on a terminal, or read
from UNVORA_MANAGER_SECRET; it is kept sealed and never shown again. A certificate
that this computer does not know is told first, to be compared and trusted.`,
		Example: "  unvora manager add mainland https://mainland.example:8443/cimi --account skerrow\n" +
			"  unvora manager add mainland https://mainland.example:8443/cimi --use-token --trust sha256:4f1c…"}
	cmd.Flags().StringVar(&account, "account", "", "the account in whose name it is asked")
	cmd.Flags().BoolVar(&token, "use-token", false, "it is asked with a token instead")
	cmd.Flags().StringVar(&trust, "trust", "", "fingerprint of its certificate")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if account == "" && !token {
			return usage("--account ACCOUNT, or --use-token")
		}
		secret, err := a.managerSecret(cmd.Context(), args[0], token)
		if err != nil {
			return err
		}
		c, err := a.client()
		if err != nil {
			return err
		}
		req := openapi.AddManager{Name: args[0], Address: args[1], Account: &account, Trust: &trust}
		if req.Password = &secret; token {
			req.Password, req.Token = nil, &secret
		}
		res, err := c.AddManager(cmd.Context(), req)
		m, err := call[openapi.Manager](c, res, err)
		var p *problem
		if errors.As(err, &p) && p.Code == "certificate-unknown" && p.Likely != nil && len(*p.Likely) > 0 {
			return &exit{statusOpen, fmt.Errorf("%s\nTo trust it, the same again with: --trust %s", p.Detail,
				(*p.Likely)[0])}
		}
		if err != nil {
			return err
		}
		return a.print(m, func() {
			fmt.Fprintf(a.out, "%s is added: %d machines on %s.\nSee them: unvora managers %s\n", m.Name, m.Copies,
				dash(hostsOf(m)), m.Name)
		})
	}
	return cmd
}

// managerSecret is asked for, where somebody can be asked.
func (a *app) managerSecret(ctx context.Context, name string, token bool) (string, error) {
	if s := os.Getenv("UNVORA_MANAGER_SECRET"); s != "" {
		return s, nil
	}
	if !a.terminal() {
		return "", usage("what %s is asked with: put it into UNVORA_MANAGER_SECRET, or call this on a terminal", name)
	}
	what := "Password"
	if token {
		what = "Token"
	}
	return a.secret(ctx, fmt.Sprintf("%s at %s: ", what, name))
}

func (a *app) managerCheckCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "check NAME",
		Short:             "Whether a manager can be used: name, port, certificate, account, version, rights",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeManagers(),
		Example:           "  unvora manager check mainland\n  unvora manager check mainland -o json"}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.CheckManager(cmd.Context(), args[0])
		checks, err := call[[]openapi.HostCheck](c, res, err)
		if err != nil {
			return err
		}
		return a.showChecks(args[0], checks)
	}
	return cmd
}

// pairCmds make one inventory of what two Unvoras have.
func (a *app) pairCmds() []*cobra.Command {
	code := calling(a, &cobra.Command{Use: "code",
		Short: "A one-time code for the people of another Unvora",
		Args:  cobra.NoArgs,
		Long: "A one-time code for the people of another Unvora, good for a quarter of an hour. Both\n" +
			"sides give each other one: neither sees anything before both have paired.",
		Example: "  unvora manager code\n  unvora manager code -o json"},
		func(c *caller, cmd *cobra.Command, _ []string) (*http.Response, error) {
			return c.OfferPairing(cmd.Context())
		}, func(_ []string, p openapi.Pairing) {
			fmt.Fprintf(a.out, "There, within a quarter of an hour:\n  unvora manager pair NAME %s --code %s\n",
				p.Address, p.Code)
		})
	var text string
	g := openapi.Grants{See: new(string), Take: new(bool)}
	flags := func(cmd *cobra.Command) {
		cmd.Flags().StringVar(g.See, "see", "", "copies that it is told of: a selector such as 'name~tide-*', or all")
		cmd.Flags().BoolVar(g.Take, "take", false, "it may copy and move what it sees")
	}
	pair := calling(a, &cobra.Command{Use: "pair NAME ADDRESS --code CODE",
		Short: "Add another Unvora by the one-time code of its people",
		Args:  cobra.ExactArgs(2),
		Long: `Add another Unvora by the one-time code of its people; they do the same with a code
of yours (unvora manager code). Each side says what the other may see and take.`,
		Example: "  unvora manager pair island island.example:7489 --code K7QF-29XA-… --see all\n" +
			"  unvora manager pair island island.example:7489 --code K7QF-29XA-… --see 'name~tide-*' --take"},
		func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
			return c.PairManager(cmd.Context(), openapi.PairManager{Name: args[0], Address: args[1], Code: text,
				Grants: &g})
		}, func(_ []string, m openapi.Manager) {
			fmt.Fprintf(a.out, "%s is added; granted to it here: %s.\n", m.Name, grantsOf(m.Grants))
			if m.Problem != "" {
				fmt.Fprintln(a.out, m.Problem)
			}
		})
	pair.Flags().StringVar(&text, "code", "", "the one-time code that their people gave you")
	pair.MarkFlagRequired("code")
	flags(pair)
	grant := calling(a, &cobra.Command{Use: "grant NAME",
		Short:             "Say what another Unvora may see and take here",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeManagers(),
		Example:           "  unvora manager grant island --see all --take\n  unvora manager grant island"},
		func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
			return c.GrantManager(cmd.Context(), args[0], g)
		}, func(_ []string, m openapi.Manager) {
			fmt.Fprintf(a.out, "Granted to %s here: %s.\n", m.Name, grantsOf(m.Grants))
		})
	flags(grant)
	return []*cobra.Command{code, pair, grant}
}

func (a *app) putBackCmd() *cobra.Command {
	s, req := &settling{}, &openapi.PutBackRequest{Operation: openapi.PutBackRequestOperationPutBack, Name: new(string),
		Manager: new(string)}
	var wire []string
	cmd := &cobra.Command{Use: "put-back COPY",
		Short:             "Give a machine back to the foreign manager that it came from",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeCopies("registered"),
		Long: `Give a machine back to the foreign manager that it came from, with its disks as they
are here. The copy here stays. Where the machine that it came from is still there, it
is put beside it, or, if you say so, in its place.`,
		Example: "  unvora put-back gannet/surge-forecast --plan\n" +
			"  unvora put-back gannet/surge-forecast --yes\n" +
			"  unvora put-back tide-gauge --to mainland --wire 'NIC 1=research' --yes"}
	f := cmd.Flags()
	f.StringVar(req.Manager, "to", "", "manager; the one that it came from, unless said")
	f.StringVar(req.Name, "name", "", "the machine's name there; as here unless said")
	f.StringArrayVar(&wire, "wire", nil, "NIC=NETWORK")
	cmd.RegisterFlagCompletionFunc("to", a.completeManagers())
	s.transfers(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		var err error
		if req.Wire, err = pairs("--wire", wire); err != nil {
			return err
		}
		req.Copies = args
		return a.perform(cmd.Context(), req, s, "put back")
	}
	return cmd
}

func (a *app) standinCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "standin DIR",
		Short: "Play a foreign manager that speaks CIMI, for trying things out",
		Args:  cobra.ExactArgs(1),
		Long: "Play a foreign management server: machines, volumes and networks from DIR/state.json,\n" +
			"over HTTPS with a certificate of its own. The sample estate has one: mainland.",
		Example: "  unvora standin .demo/managers/mainland\n  unvora standin ./trial --log-level debug"}
	level := cmd.Flags().String("log-level", "info", "debug, info, warn or error")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		log, err := a.logger(*level)
		if err != nil {
			return usage("%v", err)
		}
		s, err := standin.Open(args[0], log)
		if err == nil {
			err = s.Serve(cmd.Context())
		}
		if err != nil {
			return &exit{statusFailed, err}
		}
		return nil
	}
	return cmd
}
