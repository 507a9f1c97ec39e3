package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func init() {
	register(groupRun, (*app).userCmd, (*app).tokenCmd, (*app).sessionCmd)
}

var roleNames = []string{"administrator", "operator", "viewer"}

func (a *app) tokenCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "token",
		Short:   "Make, list and drop tokens for scripts",
		Example: "  unvora token add nightly-export --days 30\n  unvora token drop nightly-export"}
	cmd.AddCommand(a.tokenListCmd(), a.tokenAddCmd(), a.tokenDropCmd())
	return cmd
}

func (a *app) tokenListCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "list",
		Short:   "Your tokens, when they were last used and when they end",
		Args:    cobra.NoArgs,
		Example: "  unvora token list\n  unvora token list --all"}
	all := cmd.Flags().Bool("all", false, "everybody's; for administrators")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.ListTokens(cmd.Context(), &openapi.ListTokensParams{All: all})
		list, err := call[[]openapi.Token](c, res, err)
		if err != nil {
			return err
		}
		return a.print(list, func() {
			if len(list) == 0 {
				fmt.Fprintln(a.out, "No tokens.")
				return
			}
			t := a.table("token", "name", "of", "made", "last used", "ends").dropping("made", "last used")
			for _, k := range list {
				t.AppendRow([]any{k.Id, k.Name, k.User, ago(k.CreatedAt), agoOf(k.UsedAt), endOf(k.ExpiresAt)})
			}
			t.Render()
		})
	}
	return cmd
}

func (a *app) sessionCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "session",
		Short:   "Who is signed in to the console, and from where",
		Example: "  unvora session list --all\n  unvora session end 3f0c"}
	list := &cobra.Command{Use: "list",
		Short:   "Your sessions that are open",
		Args:    cobra.NoArgs,
		Example: "  unvora session list\n  unvora session list --all"}
	all := list.Flags().Bool("all", false, "everybody's; for administrators")
	list.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.ListSessions(cmd.Context(), &openapi.ListSessionsParams{All: all})
		open, err := call[[]openapi.SignedIn](c, res, err)
		if err != nil {
			return err
		}
		return a.print(open, func() {
			if len(open) == 0 {
				fmt.Fprintln(a.out, "No sessions. Somebody signs in to the console at the service's address.")
				return
			}
			t := a.table("session", "of", "since", "ends", "from", "browser").dropping("browser", "ends")
			for _, s := range open {
				ends := s.ExpiresAt.Local().Format("2006-01-02 15:04")
				t.AppendRow([]any{s.Id, s.User, ago(s.CreatedAt), ends, s.Place, dash(s.Browser)})
			}
			t.Render()
		})
	}
	end := &cobra.Command{Use: "end SESSION",
		Short:   "End a session: whoever has it is signed out at once",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora session end 3f0c\n  unvora session end 3f0c12aa-04f2-4a6e-9d0b-4ad3c5b6f002",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			res, err := c.EndSession(cmd.Context(), args[0])
			if _, err := call[struct{}](c, res, err); err != nil {
				return err
			}
			a.say(a.out, "The session %s is over.", args[0])
			return nil
		}}
	cmd.AddCommand(list, end)
	return cmd
}

func agoOf(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return ago(*t)
}

func endOf(t *time.Time) string {
	switch {
	case t == nil:
		return "never"
	case t.Before(time.Now()):
		return "it has ended"
	}
	return t.Local().Format(time.DateOnly)
}

func (a *app) tokenAddCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "add NAME",
		Short:   "Make a token; it is shown once",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora token add nightly-export --days 30\n  unvora token add monitoring -q"}
	days := 0
	cmd.Flags().Var(atLeast{&days, 1}, "days", "until it ends; 90 unless said")
	endless := cmd.Flags().Bool("endless", false, "it never ends")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		type made struct {
			Token     string     `json:"token"`
			ID        string     `json:"id"`
			ExpiresAt *time.Time `json:"expiresAt"`
		}
		res, err := c.MakeToken(cmd.Context(), openapi.MakeTokenJSONRequestBody{Name: args[0], Days: &days,
			Endless: endless})
		t, err := call[made](c, res, err)
		if err != nil {
			return err
		}
		return a.print(t, func() {
			fmt.Fprintln(a.out, t.Token)
			if !a.quiet {
				fmt.Fprintf(a.errOut, "It ends: %s. It is not shown again.\n", endOf(t.ExpiresAt))
			}
		})
	}
	return cmd
}

func (a *app) tokenDropCmd() *cobra.Command {
	return &cobra.Command{Use: "drop TOKEN",
		Short:   "Revoke a token, by its id or name",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora token drop nightly-export\n  unvora token drop 01a2041c",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			res, err := c.DropToken(cmd.Context(), args[0])
			if _, err := call[struct{}](c, res, err); err != nil {
				return err
			}
			a.say(a.out, "The token %s opens nothing any more.", args[0])
			return nil
		}}
}

func (a *app) userCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "user",
		Short:   "People who may sign in",
		Example: "  unvora user add robin --role operator\n  unvora user change robin --role viewer"}
	cmd.AddCommand(a.userListCmd(), a.userAddCmd(), a.userChangeCmd(), a.userDropCmd())
	return cmd
}

func (a *app) userListCmd() *cobra.Command {
	return &cobra.Command{Use: "list",
		Short:   "Who may sign in, and in which role",
		Args:    cobra.NoArgs,
		Example: "  unvora user list\n  unvora user list -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			res, err := c.ListUsers(cmd.Context())
			list, err := call[[]openapi.User](c, res, err)
			if err != nil {
				return err
			}
			return a.print(list, func() {
				t := a.table("name", "role")
				for _, u := range list {
					t.AppendRow([]any{u.Name, u.Role})
				}
				t.Render()
			})
		}}
}

func (a *app) userAddCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "add NAME",
		Short:   "Let a person sign in; the password is asked",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora user add robin --role operator\n  unvora user add night-desk --role viewer"}
	role := cmd.Flags().String("role", "operator", "administrator, operator or viewer")
	cmd.RegisterFlagCompletionFunc("role", cobra.FixedCompletions(roleNames, cobra.ShellCompDirectiveNoFileComp))
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		password, err := a.askPassword(cmd.Context(), "Password of "+args[0]+" (10 characters or more): ")
		if err != nil {
			return err
		}
		res, err := c.AddUser(cmd.Context(), openapi.AddUserJSONRequestBody{Name: args[0], Password: password,
			Role: openapi.AddUserJSONBodyRole(*role)})
		u, err := call[openapi.User](c, res, err)
		if err != nil {
			return err
		}
		return a.print(u, func() { fmt.Fprintf(a.out, "%s can sign in as %s.\n", u.Name, u.Role) })
	}
	return cmd
}

func (a *app) userChangeCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "change NAME",
		Short: "Change a password, one's own or another's, or a role",
		Args:  cobra.ExactArgs(1),
		Long: "Change a password or a role. For one's own password the present one is asked first.\n" +
			"Other sessions of that user end.",
		Example: "  unvora user change robin --role viewer\n  unvora user change robin --password"}
	role := cmd.Flags().String("role", "", "administrator, operator or viewer")
	ask := cmd.Flags().Bool("password", false, "ask for a new password")
	cmd.RegisterFlagCompletionFunc("role", cobra.FixedCompletions(roleNames, cobra.ShellCompDirectiveNoFileComp))
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if *role == "" && !*ask {
			return usage("change what: --role ROLE, or --password")
		}
		c, err := a.client()
		if err != nil {
			return err
		}
		body := openapi.ChangeUserJSONRequestBody{}
		if *role != "" {
			body.Role = (*openapi.ChangeUserJSONBodyRole)(role)
		}
		if *ask {
			res, err := c.GetSession(cmd.Context())
			self, err := call[openapi.Session](c, res, err)
			if err != nil {
				return err
			}
			if self.User == args[0] {
				current, err := a.askPassword(cmd.Context(), "Present password: ")
				if err != nil {
					return err
				}
				body.Current = &current
			}
			password, err := a.askPassword(cmd.Context(), "New password of "+args[0]+" (10 characters or more): ")
			if err != nil {
				return err
			}
			body.Password = &password
		}
		res, err := c.ChangeUser(cmd.Context(), args[0], body)
		u, err := call[openapi.User](c, res, err)
		if err != nil {
			return err
		}
		return a.print(u, func() { fmt.Fprintf(a.out, "%s is changed: %s.\n", u.Name, u.Role) })
	}
	return cmd
}

func (a *app) userDropCmd() *cobra.Command {
	return &cobra.Command{Use: "drop NAME",
		Short:   "End a user, with all tokens and sessions",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora user drop robin\n  unvora user drop night-desk -q",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			res, err := c.DropUser(cmd.Context(), args[0])
			if _, err := call[struct{}](c, res, err); err != nil {
				return err
			}
			a.say(a.out, "%s can't sign in any more.", args[0])
			return nil
		}}
}
