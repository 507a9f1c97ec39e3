package fit_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
)

func TestParseSize(t *testing.T) {
	for text, want := range map[string]int64{"2GiB": 2 << 30, "2G": 2 << 30, "512 MiB": 512 << 20, "1t": 1 << 40,
		"4096B": 4096, "7kb": 7 << 10} {
		got, err := fit.ParseSize(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
	}
	for _, bad := range []string{"", "GiB", "-1G", "0", "1.5G", "4096", "9999999999T", "2X"} {
		_, err := fit.ParseSize(bad)
		require.Error(t, err, bad)
	}
}
