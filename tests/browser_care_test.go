package tests

import (
	"strings"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/wait"
)

// TestConsoleCare takes care of hosts and copies in the console: switches,
// pools, rules of landing, disks, NICs, marks.
func TestConsoleCare(t *testing.T) {
	e := ownEstate(t)
	ctx := browser(t)
	signInto(t, ctx, e)
	do(t, ctx, "make a switch", press(byText("a", "Hosts")), chromedp.WaitVisible(byText("h1", "Hosts")),
		press(byText("span", "gannet")),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label=gannet]`)), press(byText("button", "Make a switch")),
		chromedp.WaitVisible(chromedp.CSS(`select[aria-label=Uplink]`)),
		chromedp.SendKeys(chromedp.CSS(`select[aria-label=Uplink]`), "by port1"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label=Segment]`), "visitors"),
		chromedp.SendKeys(chromedp.CSS(`[role=dialog] input[aria-label=Name]`), "visitors\r"),
		chromedp.WaitVisible(byText("*", "network.cuts-admin")),
		press(byText("*[@role='radio']", "port3")), chromedp.WaitVisible(byText("li", "with the port port3")),
		chromedp.WaitEnabled(byText("button", "Make the switch visitors of gannet")),
		press(byText("button", "Make the switch visitors of gannet")),
		chromedp.WaitVisible(chromedp.CSS(`button[aria-label="Drop the switch visitors"]`)))
	do(t, ctx, "drop it", press(chromedp.CSS(`button[aria-label="Drop the switch visitors"]`)),
		chromedp.WaitEnabled(byText("button", "Take the switch visitors away")),
		press(byText("button", "Take the switch visitors away")),
		chromedp.WaitNotPresent(chromedp.CSS(`button[aria-label="Drop the switch visitors"]`)))
	do(t, ctx, "rest", press(byText("button", "Let it rest")), chromedp.WaitVisible(byText("button", "Wake")),
		press(byText("button", "Wake")), chromedp.WaitVisible(byText("button", "Let it rest")),
		press(chromedp.CSS(`button[aria-label="Manage the pool kelp"]`)),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Labels of kelp"]`), "slow travel"),
		press(chromedp.CSS(`button[aria-label="Close the pool kelp"]`)))
	wait.Until(t, func() bool {
		for _, p := range get[[]openapi.Pool](t, e, "pools") {
			if p.Name == "kelp" && len(p.Labels) == 2 {
				return true
			}
		}
		return false
	})
	do(t, ctx, "adopt", chromedp.SendKeys(chromedp.CSS(`input[aria-label="Disk to adopt"]`),
		"kelp/chart-render/chart-render-disk1.qcow2"), press(byText("button", "Adopt")),
		chromedp.WaitVisible(byText("button", "let go")))

	do(t, ctx, "land", press(byText("a", "Wiring")), chromedp.WaitVisible(byText("h1", "Wiring")),
		chromedp.WaitVisible(byText("h2", "Landing")),
		chromedp.SendKeys(chromedp.CSS(`form[aria-label="New rule of landing"] input[placeholder=fast]`), "archive"),
		press(chromedp.CSS(`form[aria-label="New rule of landing"] button`)),
		chromedp.WaitVisible(byText("span", "files → the roomiest pool labelled archive")),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Subnet of visitors"]`), "203.0.113.0/24\r"))
	wait.Until(t, func() bool { return len(get[[]openapi.LandingRule](t, e, "landing", "list")) == 3 })

	do(t, ctx, "change", press(byText("a", "Lineages")), chromedp.WaitVisible(byText("h1", "Lineages")),
		press(byText("a", "tide-gauge")),
		press(byText("button", "Change")),
		press(chromedp.CSS(`button[aria-label^=Add]`)), press(byText("*[@role='menuitem']", "a NIC on field")),
		chromedp.WaitVisible(byText("span", "NIC on field")),
		press(chromedp.CSS(`button[aria-label^=Add]`)), press(byText("*[@role='menuitem']", "a serial port")),
		chromedp.WaitEnabled(byText("button", "Change gannet/tide-gauge")),
		press(byText("button", "Change gannet/tide-gauge")), chromedp.WaitVisible(byText("dt", "NIC 2")))
	do(t, ctx, "attach", press(byText("button", "Attach")),
		chromedp.WaitVisible(chromedp.CSS(`select[aria-label="Loose disk"]`)),
		chromedp.SendKeys(chromedp.CSS(`select[aria-label="Loose disk"]`), "chart-render"),
		chromedp.WaitEnabled(byText("button", "Attach chart-render-disk1.qcow2")),
		press(byText("button", "Attach chart-render-disk1.qcow2")), chromedp.WaitVisible(byText("dt", "Disk disk2")))
	require.Len(t, *get[openapi.Copy](t, e, "copies", "gannet/tide-gauge").Machine.Disks, 2)
	do(t, ctx, "detach", press(chromedp.Search("(//button[contains(., 'Detach')])[2]")),
		chromedp.WaitEnabled(byText("button", "Detach a disk of gannet/tide-gauge")),
		press(byText("button", "Detach a disk of gannet/tide-gauge")),
		chromedp.WaitNotPresent(byText("dt", "Disk disk2")))
	do(t, ctx, "mark", press(chromedp.CSS(`button[aria-label^=Bind]`)),
		press(byText("*[@role='menuitem']", "a licence to its MACs")),
		chromedp.WaitVisible(byText("span", "licence bound to its MACs")))
	require.Contains(t, e.ok(t, "mark", "tide-gauge"), "a licence is bound to its mac")
	do(t, ctx, "unmark", press(chromedp.CSS(`button[aria-label="Unbind mac"]`)),
		chromedp.WaitNotPresent(byText("span", "licence bound to its MACs")))

	// What waits for a decision: one is settled, one is left alone.
	do(t, ctx, "attention", press(byText("a", "Attention")), chromedp.WaitVisible(byText("h1", "Attention")),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label=hollow]`)))
	shot(t, ctx, "console-attention")
	do(t, ctx, "settle", press(byText("button", "Take sonar-base.vhdx as its parent")),
		chromedp.WaitVisible(byText("*", "disk.parent-missing")),
		chromedp.WaitEnabled(chromedp.Search("//div[@role='dialog']//button[contains(., 'Take sonar-base.vhdx')]")),
		press(chromedp.Search("//div[@role='dialog']//button[contains(., 'Take sonar-base.vhdx')]")),
		chromedp.WaitNotPresent(chromedp.CSS(`section[aria-label=parentless-layer]`)))
	do(t, ctx, "leave", press(chromedp.CSS(`section[aria-label=twin] input`)),
		press(byText("button", "Leave 1 as they are")), chromedp.SendKeys(chromedp.CSS(`input[aria-label=Reason]`),
			"never run together\r"),
		chromedp.WaitNotPresent(chromedp.CSS(`section[aria-label=twin]`)))
	do(t, ctx, "see it", press(chromedp.Search("//section[@aria-label='stray']//a")),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label=Recognised]`)),
		chromedp.SendKeys(chromedp.CSS(`select[aria-label="Compare with"]`), "petrel"),
		chromedp.WaitVisible(byText("*[@role='cell']", "labnet (segment lab)")))
	shot(t, ctx, "console-recognised")
	do(t, ctx, "confirm", press(byText("button", "So it is")), chromedp.WaitVisible(byText("span", "says admin")))
	do(t, ctx, "leave a copy alone", press(card("petrel: chart-render")),
		press(byText("button", "Leave alone")), chromedp.WaitVisible(byText("span", "left alone")))
	require.False(t, get[openapi.Copy](t, e, "copies", "petrel/chart-render").Tracked)

	// A machine that really runs: what it says on its serial port, and why it stands as it does.
	e.ok(t, "power", "on", "tern/ferry-display")
	do(t, ctx, "console", chromedp.Navigate(e.server+"/lineages/ferry-display"),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label=Console] textarea`)),
		chromedp.WaitVisible(byText("h2", "tern/ferry-display")))
	wait.Until(t, func() bool {
		said, err := chromedp.Run(ctx, chromedp.Value(chromedp.CSS(`section[aria-label=Console] textarea`)))
		return err == nil && strings.Contains(said, "Ferry to Quay")
	})
	do(t, ctx, "its own disk is no fault", chromedp.WaitVisible(byText("dt", "Disk disk1")),
		chromedp.WaitNotPresent(byText("span", "is open for writing")))
	shot(t, ctx, "console-serial")
	m := get[openapi.Copy](t, e, "copies", "tern/ferry-display").Machine
	require.NoError(t, syscall.Kill(e.qemuOf(t, m.FirmwareUuid), syscall.SIGKILL))
	do(t, ctx, "why it stands", chromedp.WaitVisible(byText("span", "died: signal: killed")))

	do(t, ctx, "history", press(byText("a", "History")), chromedp.WaitVisible(byText("h1", "History")),
		chromedp.WaitVisible(byText("*[@role='cell']", "untrack")))

	// Other management servers: what they have, and bringing it here.
	do(t, ctx, "managers", press(byText("a", "Managers")), chromedp.WaitVisible(byText("h1", "Managers")),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label=mainland]`)),
		chromedp.WaitVisible(byText("a", "surge-forecast")),
		press(byText("button", "Check")), chromedp.WaitVisible(byText("li",
			"it may look, have images made, and make machines")))
	do(t, ctx, "fetch ahead", press(chromedp.CSS(`input[aria-label="Pick surge-forecast"]`)),
		press(byText("button", "Fetch ahead")),
		chromedp.WaitVisible(chromedp.CSS(`[role=dialog] input[aria-label=Host]`)),
		chromedp.SendKeys(chromedp.CSS(`[role=dialog] input[aria-label=Host]`), "gan"),
		press(byText(onlyOption, "gannet")),
		chromedp.WaitEnabled(byText("button", "Fetch the disks of surge-forecast to gannet")),
		press(byText("button", "Fetch the disks of surge-forecast to gannet")),
		chromedp.WaitVisible(byText("*[@role='cell']", "to gannet")))
	shot(t, ctx, "console-managers")
	do(t, ctx, "import", press(byText("button", "Import")),
		chromedp.WaitVisible(chromedp.CSS(`[role=dialog] input[aria-label=Host]`)),
		chromedp.SendKeys(chromedp.CSS(`[role=dialog] input[aria-label=Host]`), "gan"),
		press(byText(onlyOption, "gannet")), chromedp.WaitVisible(byText("*", "manager.ahead")),
		chromedp.WaitEnabled(byText("button", "Import surge-forecast and register on gannet")),
		press(byText("button", "Import surge-forecast and register on gannet")),
		chromedp.WaitNotPresent(byText("*[@role='cell']", "to gannet")))
	wait.Until(t, func() bool { return e.run(t, "copies", "gannet/surge-forecast").status == 0 })
	do(t, ctx, "see it", press(byText("a", "surge-forecast")),
		chromedp.WaitVisible(card("gannet: surge-forecast")),
		press(card("gannet: surge-forecast")),
		press(byText("button", "Put back")), chromedp.WaitVisible(byText("*", "manager.still-there")),
		press(byText("button", "Close")))
	do(t, ctx, "pair", press(byText("a", "Managers")), chromedp.WaitVisible(byText("h1", "Managers")),
		press(byText("button", "Pair with an Unvora")),
		press(byText("button", "Make a one-time code")), chromedp.WaitVisible(byText("span",
			"once, within a quarter of an hour")),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label=Name]`), "island"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label=Address]`), "127.0.0.1:1"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label=Code]`), "K7QF"),
		press(chromedp.Search("//form//button[normalize-space(.)='Pair']")),
		chromedp.WaitVisible(byText("*[@role='alert']", "8 groups")))
	do(t, ctx, "add", press(byText("button", "Add a foreign one")),
		chromedp.SendKeys(chromedp.CSS(`form[aria-label="Add a foreign manager"] input[aria-label=Name]`), "second"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label=Account]`), "skerrow"),
		chromedp.SendKeys(chromedp.CSS(`input[type=password]`), "x"),
		chromedp.SendKeys(chromedp.CSS(`form[aria-label="Add a foreign manager"] input[aria-label=Address]`),
			strings.Replace(get[[]openapi.Manager](t, e, "managers")[0].Address, "127.0.0.1", "localhost", 1)+"\r"),
		chromedp.WaitVisible(byText("p", "Compare the fingerprint")))
}
