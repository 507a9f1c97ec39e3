package formats_test

import (
	"flag"
	"os"
	"testing"
)

// TestMain tries each property as often as takes seconds; make test-long says -rapid.checks=1000.
func TestMain(m *testing.M) {
	if err := flag.Set("rapid.checks", "30"); err != nil {
		panic(err)
	}
	os.Exit(m.Run()) // what the command line says comes after
}
