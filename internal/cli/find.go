package cli

import (
	"fmt"
	"net/http"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func (a *app) findCmd() *cobra.Command {
	return calling(a, &cobra.Command{Use: "find TEXT",
		Short: "Find whatever bears a name, or part of one, a UUID, MAC, address, id or path",
		Args:  cobra.ExactArgs(1),
		Long: `Find whatever bears a name, or part of one: hosts, pools, shelves, switches, lineages,
copies; copies also by machine UUID, MAC, address and path, jobs by the beginning of
their id. At most eight of a kind are told.`,
		Example: "  unvora find tide\n  unvora find 06:5c:00:ea:c5:e4"},
		func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
			return c.Search(cmd.Context(), &openapi.SearchParams{Text: args[0]})
		}, func(args []string, found []openapi.Found) {
			if len(found) == 0 {
				fmt.Fprintf(a.out, "Nothing bears %q. unvora survey looks again at what the hosts hold.\n", args[0])
				return
			}
			t := a.table("what", "name", "about", "id").dropping("id")
			for _, f := range found {
				t.AppendRow([]any{f.Kind, a.paint(bold, f.Name), f.About, f.Id})
			}
			t.Render()
		})
}
