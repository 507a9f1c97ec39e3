package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func init() { register(groupCare, (*app).trashCmd) }

func (a *app) trashCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "trash",
		Short: "What was taken away and is kept for a while, and how to have it back",
		Long: "What is put into the trash stays in its pool, for as long as the agent of its host keeps it\n" +
			"(trash_days, 14 unless said). It takes its room until then.",
		Example: "  unvora trash list\n  unvora trash restore gannet/training-12"}
	cmd.AddCommand(a.trashListCmd(), a.trashRestoreCmd())
	return cmd
}

func (a *app) trash(cmd *cobra.Command, host string) (*openapi.Trash, error) {
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	res, err := c.ListTrash(cmd.Context(), &openapi.ListTrashParams{Host: optional(host)})
	t, err := call[openapi.Trash](c, res, err)
	return &t, err
}

func (a *app) trashListCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "list [HOST]",
		Short:   "List what lies in the trash, the latest first",
		Args:    cobra.MaximumNArgs(1),
		Example: "  unvora trash list\n  unvora trash list gannet"}
	cmd.ValidArgsFunction = a.completeHosts()
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		t, err := a.trash(cmd, strings.Join(args, ""))
		if err != nil {
			return err
		}
		for _, h := range t.Silent {
			fmt.Fprintf(a.errOut, "What lies in the trash of %s is not listed: %s\n", h.Host, h.Why)
		}
		if t.Others > 0 {
			fmt.Fprintf(a.errOut, "%d more hosts did not tell either.\n", t.Others)
		}
		return a.print(t.Items, func() {
			if len(t.Items) == 0 {
				fmt.Fprintln(a.out, "Nothing is in the trash.")
				return
			}
			list := a.table("what", "id", "host", "pool", "takes", "lay at", "taken away", "kept until").dropping(
				"lay at", "taken away", "id")
			for _, x := range t.Items {
				list.AppendRow([]any{a.paint(bold, x.Name), x.Id, x.Host, x.Pool, size(x.Bytes), x.Was, ago(x.TakenAt),
					x.Until.Local().Format("2006-01-02 15:04")})
			}
			list.Render()
		})
	}
	return cmd
}

func (a *app) trashRestoreCmd() *cobra.Command {
	cmd := a.changing(&cobra.Command{Use: "restore NAME",
		Short: "Give back what lies in the trash, to where it lay",
		Long: "Give back what lies in the trash, to where it lay. NAME is a name, HOST/NAME or an id of the list.\n" +
			"A machine folder is a stray then: list it at its host with unvora register.",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora trash restore training-12\n  unvora trash restore gannet/training-12 --plan"},
		"out of the trash", func(args []string) (any, error) {
			return openapi.RestoreRequest{Operation: openapi.RestoreRequestOperationRestore, Trash: args[0]}, nil
		})
	cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		t, err := a.trash(cmd, "")
		if err != nil || len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var names []string
		for _, x := range t.Items {
			names = append(names, x.Host+"/"+x.Name)
		}
		return names, cobra.ShellCompDirectiveNoFileComp
	}
	return cmd
}
