package landing_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"unvora.example/unvora/core/landing"
)

func TestChoose(t *testing.T) {
	pools := []landing.Pool{
		{Name: "reef", Labels: []string{"fast"}, FreeBytes: 100, Usable: true},
		{Name: "atoll", Labels: []string{"fast"}, FreeBytes: 300, Usable: true},
		{Name: "harbour", Labels: []string{"archive"}, FreeBytes: 1000, Usable: true},
		{Name: "kelp", Labels: []string{"fast"}, FreeBytes: 9000},
	}
	rules := []landing.Rule{
		{ID: "1", Kind: landing.Disk, OverBytes: 500, Label: "archive"},
		{ID: "2", Kind: landing.Machine, Label: "fast", KeepBytes: 50},
		{ID: "3", Kind: landing.Media, Pool: "Harbour", Host: "gannet"},
	}
	for _, c := range []struct {
		file       landing.File
		host, pool string
		rule       string
	}{
		{landing.File{Kind: landing.Machine, Bytes: 10, Capacity: 10}, "gannet", "atoll", "2"},
		// too little would stay free
		{landing.File{Kind: landing.Machine, Bytes: 260, Capacity: 260}, "gannet", "", ""},
		{landing.File{Kind: landing.Disk, Bytes: 10, Capacity: 500}, "gannet", "harbour", "1"},
		{landing.File{Kind: landing.Disk, Bytes: 10, Capacity: 499}, "gannet", "", ""},
		{landing.File{Kind: landing.Media, Bytes: 1}, "Gannet", "harbour", "3"},
		{landing.File{Kind: landing.Media, Bytes: 1}, "petrel", "", ""},
	} {
		pool, rule, ok := landing.Choose(c.file, c.host, pools, rules)
		require.Equal(t, c.pool, pool, "%+v", c.file)
		require.Equal(t, c.rule, rule.ID)
		require.Equal(t, c.pool != "", ok)
	}
}

func TestRuleCheck(t *testing.T) {
	require.NoError(t, landing.Rule{Label: "fast"}.Check())
	for _, r := range []landing.Rule{{}, {Label: "a", Pool: "b"}, {Kind: "sponge", Label: "a"},
		{Label: "a", OverBytes: -1}} {
		require.Error(t, r.Check())
	}
	r := landing.Rule{Kind: landing.Disk, OverBytes: 100, Label: "archive", Host: "gannet", KeepBytes: 5}
	require.Equal(t, "disk of 100 B or more → the roomiest pool labelled archive of gannet, as long as 5 B stay free",
		r.Words(func(n int64) string { return fmt.Sprintf("%d B", n) }))
	require.Equal(t, "files → pool reef", landing.Rule{Pool: "reef"}.Words(nil))
}

// TestChooseNeverFillsUp: whatever the rules, the pool that is chosen can be
// used, has room for the file and keeps what the rule wants kept.
func TestChooseNeverFillsUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		label := rapid.SampledFrom([]string{"fast", "archive", ""})
		var pools []landing.Pool
		for i := range rapid.IntRange(0, 5).Draw(t, "pools") {
			pools = append(pools, landing.Pool{Name: fmt.Sprint("p", i), Labels: []string{label.Draw(t, "label")},
				FreeBytes: rapid.Int64Range(0, 1000).Draw(t, "free"), Usable: rapid.Bool().Draw(t, "usable")})
		}
		var rules []landing.Rule
		for range rapid.IntRange(0, 4).Draw(t, "rules") {
			rules = append(rules, landing.Rule{Kind: rapid.SampledFrom([]string{"", landing.Disk}).Draw(t, "kind"),
				Label:     rapid.SampledFrom([]string{"fast", "archive"}).Draw(t, "to"),
				OverBytes: rapid.Int64Range(0, 500).Draw(t, "over"),
				KeepBytes: rapid.Int64Range(0, 500).Draw(t, "keep")})
		}
		bytes := rapid.Int64Range(0, 800).Draw(t, "bytes")
		name, rule, ok := landing.Choose(landing.File{Kind: landing.Disk, Bytes: bytes, Capacity: bytes}, "h", pools,
			rules)
		if !ok {
			return
		}
		for _, p := range pools {
			if p.Name == name && (!p.Usable || p.FreeBytes-bytes < rule.KeepBytes || bytes < rule.OverBytes) {
				t.Fatalf("%+v was chosen by %+v for %d bytes", p, rule, bytes)
			}
		}
	})
}
