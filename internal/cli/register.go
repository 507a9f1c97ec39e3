package cli

import (
	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func init() {
	register(groupBring, (*app).registerCmd)
}

func (a *app) registerCmd() *cobra.Command {
	s, o, m := &settling{}, &importFlags{}, &several{}
	files := ""
	cmd := &cobra.Command{
		Use:   "register FOLDER… --host HOST",
		Short: "Make a registered copy of a machine folder that lies in a pool",
		Long: `Make a registered copy of a machine folder that lies in a pool of the host, or at
another host. Its files stay where they are, are copied or are moved; its identity
is kept or renewed; the two are independent of each other. With files that stay it
takes well under a second, whatever the disks' size.

FOLDER is POOL/NAME (kelp/chart-render), a copy that a survey found
(gannet/chart-render), or a path of the host. It need not have been exported by
anybody: only the files are needed. Of several folders each is a job of its own; their
names then are a pattern: --name class-{nn}.`,
		Example: "  unvora register kelp/chart-render --host gannet --identity renew --plan\n" +
			"  unvora register kelp/chart-render --host petrel --files copy --name chart-test --yes",
		Args: cobra.MinimumNArgs(1),
	}
	o.flags(a, cmd)
	m.together(cmd)
	cmd.Flags().StringVar(&files, "files", "", "stay, copy or move; stay unless the folder lies at another host")
	cmd.RegisterFlagCompletionFunc("files", cobra.FixedCompletions([]string{"stay", "copy", "move"},
		cobra.ShellCompDirectiveNoFileComp))
	s.transfers(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		switch files {
		case "", "stay", "copy", "move":
		default:
			return usage("--files %q: stay, copy or move", files)
		}
		common, err := o.request()
		if err != nil {
			return err
		}
		req, err := registering(common, args)
		if err != nil {
			return err
		}
		req.AllOrNothing = &m.allOrNothing
		req.Files = (*openapi.RegisterRequestFiles)(optional(files))
		return a.perform(cmd.Context(), req, s, "registered")
	}
	return cmd
}

// registering is the request to register folders, with what it has in common with an import.
func registering(common *openapi.ImportRequest, folders []string) (*openapi.RegisterRequest, error) {
	req := &openapi.RegisterRequest{}
	err := remake(common, req)
	req.Operation, req.Folders = openapi.RegisterRequestOperationRegister, folders
	return req, err
}
