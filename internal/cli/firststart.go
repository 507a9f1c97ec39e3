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
	text, err := readText("--first-start", o.firstStart, firststart.MostBytes)
	if err != nil {
		return nil, err
	}
	if _, err := firststart.Parse(text); err != nil {
		return nil, usage("%s: %v", o.firstStart, err)
	}
	return &text, nil
}

// readText is the text of a file that an option names, of so many bytes at most.
func readText(option, file string, most int64) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", usage("%s: %v", option, err)
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, most+1))
	if err != nil {
		return "", usage("%s: %v", option, err)
	}
	if int64(len(raw)) > most {
		return "", usage("%s: %s has more than the %d bytes that are taken", option, file, most)
	}
	return string(raw), nil
}
