package tests

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	browserdomain "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/wait"
)

// outside lists what of a page can't be seen: what reaches out of the window where nothing scrolls, and what is cut
// off without a sign of it.
const outside = `(() => {
	const wide = document.documentElement.clientWidth;
	const scrolls = n => { for (let p = n.parentElement; p; p = p.parentElement)
		if (/auto|scroll|hidden/.test(getComputedStyle(p).overflowX)) return true; return false; };
	const called = n => n.tagName.toLowerCase() + " " + String(n.className.baseVal ?? n.className) + " “" +
		n.textContent.trim().slice(0, 40) + "”";
	const wrong = [];
	if (document.documentElement.scrollWidth > wide) wrong.push("the page is wider than the window");
	for (const n of document.body.querySelectorAll("*")) {
		const box = n.getBoundingClientRect(), style = getComputedStyle(n);
		if (box.width <= 1 || box.height <= 1 || style.visibility === "hidden") continue;
		if (box.right > wide + 1 && !scrolls(n)) wrong.push("reaches out: " + called(n));
		const cut = style.overflowX === "hidden" && n.scrollWidth > n.clientWidth + 1;
		const counted = n.closest("[aria-label='Lineages']"); // how many flags a line has no room for
		const told = style.textOverflow === "ellipsis" || counted;
		if (cut && !told) wrong.push("cut off: " + called(n));
	}
	return wrong.slice(0, 8).join("\n");
})()`

// TestPages: every page shows all that is on it, on a desk, on a tablet and at twice its size, and obeys the rules of
// accessibility.
func TestPages(t *testing.T) {
	e := ownEstate(t)
	e.ok(t, "export", "training-01", "loft")
	e.ok(t, "move", "training-02", "training-03", "--host", "petrel")
	job := get[[]openapi.Job](t, e, "jobs")[0]
	gauge := get[openapi.Copy](t, e, "copies", "gannet/tide-gauge")
	probe := get[openapi.Copy](t, e, "copies", "petrel/tide-probe")
	ctx := browser(t)
	signInto(t, ctx, e)
	for _, window := range [][2]int64{{1280, 800}, {800, 1100}, {640, 400}} {
		do(t, ctx, "window", chromedp.EmulateViewport(window[0], window[1]))
		for _, page := range []struct{ path, shows string }{
			{"/attention", "//h1[.='Attention']"}, {"/lineages", "//a[.='archive-db']"},
			{"/lineages/" + gauge.Lineage, "//section[@aria-label='Copy']//dt[.='Machine UUID']"},
			{"/copies", "//a[.='archive-db']"}, {"/hosts?host=gannet", "//ul[@aria-label='Switches']/li"},
			{"/hosts?host=tern", "//ul[@aria-label='Switches']/li"}, {"/packages", "//*[contains(text(), 'loft')]"},
			{"/jobs", "//article"}, {"/jobs/" + job.Id, "//section[@aria-label='Plan']"},
			{"/history", "//a[.='plan and steps']"}, {"/wiring", "//h1[.='Wiring']"},
			{"/managers?manager=", "//*[contains(text(), 'mainland')]"},
			{"/account", "//*[@aria-label='Sessions']//span[.='this one']"},
			{"/compare?a=" + gauge.Id + "&b=" + probe.Id, "//*[@aria-label='Differences']"},
		} {
			name := fmt.Sprintf("%s at %d × %d", page.path, window[0], window[1])
			do(t, ctx, name, chromedp.Navigate(e.server+page.path), chromedp.WaitVisible(chromedp.Search(page.shows)))
			says, err := chromedp.Run(ctx, chromedp.Evaluate[string](outside))
			require.NoError(t, err, name)
			require.Empty(t, says, name)
			accessible(t, ctx, name)
		}
	}
}

// TestCopiesPage: copies are filtered, chosen and worked on together, and found by anything that they bear.
func TestCopiesPage(t *testing.T) {
	e := ownEstate(t)
	saves := t.TempDir()
	ctx := browser(t)
	signInto(t, ctx, e)
	do(t, ctx, "filter", press(byText("a", "Copies")), chromedp.WaitVisible(byText("h1", "Copies")),
		press(chromedp.CSS("input[aria-label=Filter]")),
		chromedp.SendKeys(chromedp.CSS("input[aria-label=Filter]"), "host=gannet name~training-*"),
		chromedp.WaitVisible(byText("span", "12 copies")))
	shot(t, ctx, "console-copies")
	do(t, ctx, "no filter", chromedp.Navigate(e.server+"/copies"), chromedp.WaitVisible(byText("a", "archive-db")))
	offered, err := chromedp.Run(ctx, chromedp.Evaluate[string](
		`[...document.querySelectorAll("datalist option")].map(o => o.value).join(" ")`))
	require.NoError(t, err)
	require.ElementsMatch(t, e.offered(t, ""), strings.Fields(offered), "as the client does")
	do(t, ctx, "filter again", chromedp.Navigate(e.server+"/copies?q=host%3Dgannet+name~training-*"),
		chromedp.WaitVisible(byText("span", "12 copies")))
	box := func(name string) chromedp.Search {
		return chromedp.Search("//*[@role='row'][.//a[.='" + name + "']]//input")
	}
	do(t, ctx, "choose", press(box("training-07")), press(box("training-09")),
		chromedp.WaitVisible(byText("span", "2 copies chosen")), press(byText("button", "Start …")),
		chromedp.WaitVisible(byText("h2", "Start gannet/training-07, gannet/training-09")),
		press(byText("button", "Start gannet/training-07, gannet/training-09")),
		chromedp.WaitNotPresent(chromedp.CSS(`[role=toolbar]`)))
	wait.Until(t, func() bool {
		return len(get[[]openapi.Copy](t, e, "copies", "--where", "state=running name~training-*")) == 2
	})
	do(t, ctx, "sort", press(byText("button", "Size")), chromedp.WaitVisible(chromedp.CSS("[aria-label=falling]")),
		press(byText("button", "Size")), chromedp.WaitVisible(chromedp.CSS("[aria-label=rising]")),
		chromedp.Navigate(e.server+"/copies?q=host%3Dgannet+name~training-*"), // rows that are sorted anew move
		chromedp.WaitVisible(byText("span", "12 copies")))
	do(t, ctx, "snapshots", press(box("training-09")), press(box("training-11")),
		press(byText("button", "Snapshot …")),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Name of the snapshot"]`), "before the works\r"),
		press(byText("label", "all, or none")), chromedp.WaitVisible(byText("*", "of 2 machines as")))
	accessible(t, ctx, "snapshots of several")
	do(t, ctx, "make them", press(byText("button", "Make the snapshot before the works")),
		chromedp.WaitNotPresent(chromedp.CSS(`[role=toolbar]`)))
	wait.Until(t, func() bool {
		return strings.Contains(e.ok(t, "snapshot", "list", "training-09"), "before the works")
	})
	do(t, ctx, "what one holds", press(box("training-09")), press(byText("button", "Export …")),
		chromedp.WaitVisible(byText("*", "Send 1 disk as stream-optimized VMDK")), // the sheet has its size
		press(byText("summary", "What else it holds, and what the receiver sees")),
		chromedp.WaitVisible(chromedp.Search("//details[@open]//fieldset[legend='Leave out']"+
			"//label[contains(., 'disk1')]")),
		chromedp.SendKeys(chromedp.CSS(`select[aria-label=Disks]`), "QCOW2"),
		chromedp.WaitVisible(byText("*", "Send 1 disk as QCOW2")),
		press(byText("label", "without what its file systems mark as free")),
		chromedp.WaitVisible(byText("*", "nothing of them is left out")))
	accessible(t, ctx, "what a package holds")
	do(t, ctx, "not now", press(byText("button", "Close")), chromedp.WaitNotPresent(chromedp.CSS(`[role=toolbar]`)))
	do(t, ctx, "one package", press(box("training-09")), press(box("training-11")),
		press(byText("button", "Export …")), press(byText("label", "One package of all")),
		chromedp.SendKeys(chromedp.CSS(`select[aria-label=Destination]`), "shelf attic"),
		chromedp.WaitVisible(byText("*", "Write 2 machines, with 2 disks")))
	accessible(t, ctx, "one package of several")
	do(t, ctx, "write it", press(byText("button", "Write machines.ova to the shelf attic")),
		chromedp.WaitNotPresent(chromedp.CSS(`[role=toolbar]`)))
	wait.Until(t, func() bool { return strings.Count(e.ok(t, "packages"), "attic/machines.ova") == 2 })
	do(t, ctx, "change them", press(box("training-09")), press(box("training-11")),
		press(byText("button", "Change …")),
		chromedp.SendKeys(chromedp.Search("//label[contains(., 'CPUs')]/input"), "3"),
		press(byText("button", "Change 2 machines")), chromedp.WaitNotPresent(chromedp.CSS(`[role=toolbar]`)))
	wait.Until(t, func() bool { return get[openapi.Copy](t, e, "copies", "gannet/training-09").Machine.Cpus == 3 })
	do(t, ctx, "copy ahead", press(box("training-09")), press(byText("button", "Move …")),
		chromedp.SendKeys(chromedp.CSS("[role=dialog] input[aria-label=Host]"), "petrel"), press("//"+onlyOption),
		chromedp.SendKeys(chromedp.CSS(`select[aria-label="Cut over"]`), "copy now, cut over when I say so"),
		chromedp.WaitVisible(byText("*", "Wait with the cut-over")),
		chromedp.WaitEnabled(byText("button", "Move it to petrel")))
	accessible(t, ctx, "a move that is copied ahead")
	do(t, ctx, "move it", press(byText("button", "Move it to petrel")),
		chromedp.WaitNotPresent(chromedp.CSS(`[role=toolbar]`)), press(byText("a", "Jobs")),
		press(byText("button", "Cut over now")))
	wait.Until(t, func() bool { return e.run(t, "copies", "petrel/training-09").status == 0 })
	wait.Until(t, func() bool { // its start there is still of the job
		return e.run(t, "move", "training-09", "--host", "gannet", "--pool", "reef", "--yes").status == 0
	})
	do(t, ctx, "back", chromedp.Navigate(e.server+"/copies?q=host%3Dgannet+name~training-*"),
		chromedp.WaitVisible(byText("span", "12 copies")))
	do(t, ctx, "compare", press(box("training-07")), press(box("training-08")), press(byText("a", "Compare")),
		chromedp.WaitVisible(byText("*[@role='columnheader']", "gannet/training-08")),
		chromedp.WaitVisible(byText("li", "disk1")),
		chromedp.Navigate(e.server+"/copies?q=host%3Dgannet+name~training-*"),
		chromedp.WaitVisible(byText("span", "12 copies")))
	do(t, ctx, "leave alone", press(box("training-10")), press(byText("button", "Leave alone")),
		chromedp.WaitNotPresent(chromedp.CSS(`[role=toolbar]`)))
	require.False(t, get[openapi.Copy](t, e, "copies", "gannet/training-10").Tracked)
	do(t, ctx, "save", chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, browserdomain.SetDownloadBehavior, browserdomain.SetDownloadBehaviorParams{
			Behavior: "allow", DownloadPath: saves})
		return err
	}), press(byText("button", "Save as CSV")))
	wait.Until(t, func() bool {
		raw, err := os.ReadFile(filepath.Join(saves, "copies.csv"))
		return err == nil && len(raw) > 0
	})
	raw, err := os.ReadFile(filepath.Join(saves, "copies.csv"))
	require.NoError(t, err)
	require.Contains(t, string(raw), "Copy,State,Where,Size,Made,MACs,id\r\n")
	require.Contains(t, string(raw), "training-07,running,gannet/training-07,")

	gauge := get[openapi.Copy](t, e, "copies", "gannet/tide-gauge")
	do(t, ctx, "find by its MAC", press(byText("button", "Find")),
		chromedp.WaitVisible(chromedp.CSS("input[aria-label=Find]:focus")),
		chromedp.SendKeys(chromedp.CSS("input[aria-label=Find]"), gauge.Macs[0]),
		chromedp.WaitVisible(byText("*[@role='option']", "gannet/tide-gauge")))
	accessible(t, ctx, "find")
	do(t, ctx, "open what was found", press(byText("*[@role='option']", "gannet/tide-gauge")),
		chromedp.WaitVisible(byText("h2", "gannet/tide-gauge")))
	require.Contains(t, e.ok(t, "find", gauge.Macs[0]), "gannet/tide-gauge")
	require.Contains(t, e.ok(t, "find", "lab"), "gannet/lab")
	r := e.run(t, "find", "x")
	require.Equal(t, 2, r.status)

	do(t, ctx, "history", press(byText("a", "History")),
		chromedp.SendKeys(chromedp.Search("//label[contains(., 'of what')]/input"), "training-07\r"),
		chromedp.WaitVisible(byText("a", "gannet/training-07")), press(byText("a", "plan and steps")),
		chromedp.WaitVisible(byText("h1", "Start gannet/training-07")),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label=Plan]`)))
	e.ok(t, "power", "off", "training-07")
	do(t, ctx, "again", press(byText("button", "Again …")),
		chromedp.WaitVisible(byText("h2", "Start gannet/training-07")),
		press(byText("button", "Start gannet/training-07")), chromedp.WaitVisible(byText("h1", "Jobs")))
	wait.Until(t, func() bool { return get[openapi.Copy](t, e, "copies", "gannet/training-07").State == "running" })
	e.ok(t, "delist", "training-09", "--yes", "--answer", "state.running=stop")
	do(t, ctx, "how it is taken back", chromedp.Navigate(e.server+"/history"),
		chromedp.WaitVisible(byText("button", "unvora register reef/training-09 --host gannet --identity keep")))
}
