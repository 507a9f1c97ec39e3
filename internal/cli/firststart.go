package cli

import (
	"io"
	"os"

	"github.com/spf13/cobra"

	"unvora.example/unvora/core/firststart"
)

func init() {
	register(groupRun, (*app).firstStartCmd)
}

const firstStartExample = "  unvora first-start example > class.yaml\n" +
	"  unvora clone training-01 --count 12 --name class-{nn} --first-start class.yaml"

func (a *app) firstStartCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "first-start", Short: "What a machine is told when it starts for the first time",
		Example: firstStartExample,
		Long: `What a machine is told when it starts for the first time: its host name and addresses,
a user, files and commands. It lies on a disc that initialisers of guests read (cloud-init
and others that know NoCloud), and comes with clone and import: --first-start FILE.`}
	cmd.AddCommand(&cobra.Command{Use: "example", Short: "Print first-start data with everything that can be said",
		Example: firstStartExample,
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := io.WriteString(a.out, firststart.Example)
			return err
		}})
	return cmd
}

// firstStartFlag lets first-start data be named.
func (o *importFlags) firstStartFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&o.firstStart, "first-start", "", "file with what the machine is told when it starts for "+
		"the first time: unvora first-start example")
}

// told is the first-start data that was named; nil for none.
func (o *importFlags) told() (*string, error) {
	if o.firstStart == "" {
		return nil, nil
	}
	f, err := os.Open(o.firstStart)
	if err != nil {
		return nil, usage("--first-start: %v", err)
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, firststart.MostBytes+1))
	if err == nil {
		_, err = firststart.Parse(string(raw))
	}
	if err != nil {
		return nil, usage("%s: %v", o.firstStart, err)
	}
	return ptr(string(raw)), nil
}
