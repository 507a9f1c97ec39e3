package cli

import (
	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func init() { register(groupCare, (*app).rouseCmd) }

func (a *app) rouseCmd() *cobra.Command {
	return a.changing(&cobra.Command{Use: "rouse COPY", Short: "Stop a copy and start it again",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora rouse gannet/tide-gauge\n  unvora rouse gannet/tide-gauge --plan"},
		"roused", func(args []string) (any, error) {
			return openapi.RouseRequest{Operation: openapi.RouseRequestOperationRouse, Copies: args}, nil
		})
}
