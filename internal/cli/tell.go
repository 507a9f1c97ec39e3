package cli

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func init() {
	register(groupRun, (*app).tellCmd)
}

// tellWords are the causes of which people are told.
var tellWords = []string{"done", "failed", "held"}

func (a *app) tellCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "tell",
		Short: "Be told when a job ends, fails or can't go on: by mail, or by a call of a web address",
		Example: "  unvora tell mail robin@skerrow.example\n" +
			"  unvora tell mail robin@skerrow.example --when done,failed,held --longer 5m"}
	cmd.AddCommand(a.tellListCmd(), a.tellHowCmd("mail", "ADDRESS", "Be told by mail", "robin@skerrow.example"),
		a.tellHowCmd("call", "URL", "Have a web address called; for administrators",
			"https://depot.skerrow.example/jobs"))
	id := func(use, short, said string, do func(c *caller, cmd *cobra.Command, id string) (*http.Response, error)) {
		cmd.AddCommand(calling(a, &cobra.Command{Use: use + " ID", Short: short, Args: cobra.ExactArgs(1),
			Example: "  unvora tell " + use + " 4f1c2a90\n  unvora tell list"},
			func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
				return do(c, cmd, args[0])
			}, func([]string, struct{}) { fmt.Fprintln(a.out, said) }))
	}
	id("try", "Send something now, to see whether it arrives", "It was taken.",
		func(c *caller, cmd *cobra.Command, id string) (*http.Response, error) {
			return c.TryTelling(cmd.Context(), id)
		})
	id("drop", "Be told no more", "Nothing more is told.",
		func(c *caller, cmd *cobra.Command, id string) (*http.Response, error) {
			return c.DropTelling(cmd.Context(), id)
		})
	return cmd
}

func (a *app) tellListCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "list", Short: "How you are told, and whether it arrives", Args: cobra.NoArgs,
		Example: "  unvora tell list\n  unvora tell list --all"}
	all := cmd.Flags().Bool("all", false, "everybody; for administrators")
	return calling(a, cmd, func(c *caller, cmd *cobra.Command, _ []string) (*http.Response, error) {
		return c.ListTellings(cmd.Context(), &openapi.ListTellingsParams{All: all})
	}, func(_ []string, list []openapi.Telling) {
		if len(list) == 0 {
			fmt.Fprintln(a.out, "Nobody is told anything. unvora tell mail ADDRESS begins that.")
			return
		}
		t := a.table("id", "by", "address", "whose jobs", "when", "last told", "wrong").dropping("last told", "when")
		for _, w := range list {
			whose := w.User
			if whose == "" {
				whose = "everybody's"
			}
			when := []string{}
			for _, c := range w.Causes {
				when = append(when, string(c))
			}
			t.AppendRow([]any{w.Id[len(w.Id)-8:], string(w.How), w.Address, whose, strings.Join(when, ", "),
				agoOf(w.ToldAt), dash(w.Error)})
		}
		t.Render()
	})
}

func (a *app) tellHowCmd(how, what, short, example string) *cobra.Command {
	cmd := &cobra.Command{Use: how + " " + what, Short: short, Args: cobra.ExactArgs(1),
		Long: short + `, when a job has failed, or can't go on without somebody (held). --when done adds
those that went well; of them only such as took long enough (--longer).`,
		Example: "  unvora tell " + how + " " + example + "\n" +
			"  unvora tell " + how + " " + example + " --when done,failed,held --longer 5m"}
	if how == "call" {
		cmd.Long += `

The address gets a POST with what happened as JSON. Its header Unvora-Signature, t=SECONDS,v1=HEX,
is an HMAC-SHA256 over SECONDS, a dot and the body, by the secret that is shown once now.`
	}
	f := cmd.Flags()
	when := f.StringSlice("when", []string{"failed", "held"}, "of what: done, failed, held")
	longer := f.Duration("longer", 0, "of jobs that are done: only those that took so long, such as 5m")
	all := f.Bool("all", false, "of everybody's jobs, not only your own; for administrators")
	cmd.RegisterFlagCompletionFunc("when", cobra.FixedCompletions(tellWords, cobra.ShellCompDirectiveNoFileComp))
	return calling(a, cmd, func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
		causes := []openapi.NewTellingCauses{}
		for _, w := range *when {
			if !slices.Contains(tellWords, w) {
				return nil, usage("--when %q: done, failed and held are what there is", w)
			}
			causes = append(causes, openapi.NewTellingCauses(w))
		}
		return c.AddTelling(cmd.Context(), openapi.NewTelling{How: openapi.NewTellingHow(how), Address: args[0],
			Causes: &causes, LeastSeconds: ptr(int(longer.Seconds())), All: all})
	}, func(args []string, t openapi.AddedTelling) {
		fmt.Fprintf(a.out, "%s is told. Whether it arrives: unvora tell try %s\n", args[0],
			t.Telling.Id[len(t.Telling.Id)-8:])
		if t.Secret != "" {
			fmt.Fprintf(a.out, "Calls are signed with the secret %s (shown only this once).\n", t.Secret)
		}
	})
}
