package tests

import (
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
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
	_, err = chromedp.Run(ctx, chromedp.Evaluate[bool](`[...document.querySelectorAll("button")].every((b) =>
		b.textContent.trim() !== "Let it rest" || (b.click(), true))`)) // unless the page has asked by itself
	require.NoError(t, err)
	do(t, ctx, "ended", chromedp.WaitVisible(byText("p", "Your session is over")))
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

// TestAccountPage: people change their password, end sessions and make tokens; an administrator lets others sign in.
func TestAccountPage(t *testing.T) {
	e := ownEstate(t)
	ctx, other := browser(t), browser(t)
	signInto(t, ctx, e)
	signInto(t, other, e)
	open := func() []openapi.SignedIn { return get[[]openapi.SignedIn](t, e, "session", "list") }
	require.Len(t, open(), 2)
	do(t, ctx, "end the other session", press(byText("a", "admin")),
		chromedp.WaitVisible(byText("h2", "Signed in to the console")), press(byText("button", "End it")),
		chromedp.WaitNotPresent(byText("button", "End it")))
	require.Len(t, open(), 1)
	do(t, other, "it is over", press(byText("a", "Hosts")), chromedp.WaitVisible(byText("p", "Your session is over")))

	field := func(section, name string) chromedp.Search {
		return chromedp.Search("//section[@aria-label='" + section + "']//input[@aria-label='" + name + "']")
	}
	tokens := "Tokens, for scripts and the client"
	do(t, ctx, "token", chromedp.SendKeys(field(tokens, "Name of a new one"), "nightly-export"),
		press(byText("button", "Make it")), chromedp.WaitVisible(byText("p", "It is shown only this once")),
		chromedp.WaitVisible(byText("*[@role='cell']", "nightly-export")))
	made, err := chromedp.Run(ctx, chromedp.Text(chromedp.Search("//section[@aria-label='"+tokens+"']//p/button")))
	require.NoError(t, err)
	res, _ := e.http(t, "GET", "/api/v1/copies", strings.TrimSpace(made), "")
	require.Equal(t, 200, res.StatusCode)
	row := "//*[@role='row'][.//*[.='nightly-export']]"
	do(t, ctx, "revoke", press(chromedp.Search(row+"//button")), press(byText("button", "Revoke it")),
		chromedp.WaitNotPresent(chromedp.Search(row)))
	res, _ = e.http(t, "GET", "/api/v1/copies", strings.TrimSpace(made), "")
	require.Equal(t, 401, res.StatusCode)

	people := "People who may sign in"
	do(t, ctx, "people", chromedp.SendKeys(field(people, "Name of a new one"), "wren"),
		chromedp.SendKeys(field(people, "First password, 10 signs or more"), "harbour-light-7"),
		press(byText("button", "Let them sign in")),
		chromedp.WaitVisible(chromedp.CSS(`select[aria-label="Role of wren"]`)),
		chromedp.SendKeys(chromedp.CSS(`select[aria-label="Role of wren"]`), "viewer"))
	wait.Until(t, func() bool {
		return slices.ContainsFunc(get[[]openapi.User](t, e, "user", "list"),
			func(u openapi.User) bool { return u.Name == "wren" && u.Role == "viewer" })
	})
	do(t, ctx, "password", chromedp.SendKeys(field("Password", "Present password"), "not this one"),
		chromedp.SendKeys(field("Password", "New password, 10 signs or more"), "a-better-password"),
		press(byText("button", "Change it")), chromedp.WaitVisible(byText("p", "The present password is not right")))
	accessible(t, ctx, "account")
}
