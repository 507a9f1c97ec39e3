package tests

import (
	"os"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/wait"
)

// TestConsoleSession: a session that ends leaves the page where it is, and asks to
// sign in; a job is held and goes on.
func TestConsoleSession(t *testing.T) {
	e := ownEstate(t)
	ctx := browser(t)
	signInto(t, ctx, e)
	do(t, ctx, "hosts", press(byText("a", "Hosts")), chromedp.WaitVisible(byText("h1", "Hosts")),
		press(byText("span", "gannet")),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label=gannet]`)))
	_, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`fetch("/api/v1/session").then(r => r.json())
		.then(s => fetch("/api/v1/session", {method: "DELETE", headers: {"X-CSRF-Token": s.csrf}}))
		.then(r => r.ok)`, chromedp.EvalAwaitPromise))
	require.NoError(t, err)
	do(t, ctx, "ended", press(byText("button", "Let it rest")),
		chromedp.WaitVisible(byText("p", "Your session is over")))
	do(t, ctx, "again", chromedp.SendKeys(chromedp.CSS(`[role=dialog] input[name=password]`), "wrong"),
		press(chromedp.Search("//*[@role='dialog']//button[contains(., 'Sign in')]")),
		chromedp.WaitVisible(byText("p", "Name or password is wrong")),
		chromedp.SendKeys(chromedp.CSS(`[role=dialog] input[name=password]`), "\b\b\b\b\b"+e.password),
		press(chromedp.Search("//*[@role='dialog']//button[contains(., 'Sign in')]")),
		chromedp.WaitNotPresent(chromedp.CSS(`[role=dialog]`)),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label=gannet]`)),
		press(byText("button", "Let it rest")), chromedp.WaitVisible(byText("button", "Wake")),
		press(byText("button", "Wake")), chromedp.WaitVisible(byText("button", "Let it rest")))

	volume, err := os.OpenFile(e.dir+"/managers/mainland/volumes/swell-archive-disk1.raw", os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = volume.WriteAt(sample(200*mib, 4), 64*mib)
	require.NoError(t, err)
	require.NoError(t, volume.Close())
	e.ok(t, "import", "--from", "mainland", "swell-archive", "--host", "gannet", "--name", "swell", "--answer",
		"manager.running=moment", "--yes", "--detach")
	do(t, ctx, "hold", press(byText("a", "Jobs")), chromedp.WaitVisible(byText("h1", "Jobs")),
		press(byText("button", "Hold")),
		chromedp.WaitVisible(byText("button", "Resume")))
	do(t, ctx, "resume", press(byText("button", "Resume")), chromedp.WaitNotPresent(byText("button", "Resume")))
	wait.Until(t, func() bool { return e.run(t, "copies", "gannet/swell").status == 0 })
}
