package tests

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	browserdomain "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/wait"
)

var shots = flag.String("shots", "", "directory to write screenshots of the console to")

type act = chromedp.Action[chromedp.Void]

// browser opens a page of 1280×800 in headless Chromium.
func browser(t *testing.T) context.Context {
	t.Helper()
	options := append([]chromedp.ExecAllocatorOption{}, chromedp.DefaultExecAllocatorOptions[:]...)
	options = append(options, chromedp.ExecPath(need(t, "chromium", "chromium")), chromedp.NoSandbox,
		chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.UserDataDir(t.TempDir()))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	return ctx
}

// do runs actions on the page; a page that does not get there in time fails.
func do(t *testing.T, ctx context.Context, what string, actions ...act) {
	t.Helper()
	for n, action := range actions {
		one, cancel := context.WithTimeout(ctx, wait.Bound)
		err := chromedp.Do(one, action)
		cancel()
		if err != nil {
			alive, end := context.WithTimeout(context.WithoutCancel(ctx), wait.Bound)
			defer end()
			page, _ := chromedp.Run(alive, chromedp.Text(chromedp.CSS("body")))
			t.Fatalf("%s, action %d: %v\nThe page says:\n%s", what, n+1, err, page)
		}
	}
}

// shot holds the page against the rules of accessibility, and keeps a picture of it when they are wanted.
func shot(t *testing.T, ctx context.Context, name string) {
	t.Helper()
	// What moves has to have settled: axe measures contrast.
	const settled = `Promise.allSettled(document.getAnimations().map(a => a.finished)).then(() => true)`
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[bool](settled, chromedp.EvalAwaitPromise)); err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	accessible(t, ctx, name)
	picture(t, ctx, name)
}

// picture keeps one of the page when they are wanted.
func picture(t *testing.T, ctx context.Context, name string) {
	t.Helper()
	if *shots == "" {
		return
	}
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(*shots, name+".png"), png, 0o644))
}

// card is a copy in the family tree, by the beginning of what it is called.
func card(name string) chromedp.Search {
	return chromedp.Search("//*[name()='g'][*[name()='title'][starts-with(., '" + name + "')]]")
}

// accessible runs the rules of WCAG 2.1, levels A and AA, over the page.
func accessible(t *testing.T, ctx context.Context, name string) {
	t.Helper()
	rules, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "make setup installs it")
	_, err = chromedp.Run(ctx, chromedp.Evaluate[bool](string(rules)+"; true"))
	require.NoError(t, err)
	says, err := chromedp.Run(ctx, chromedp.Evaluate[string](`axe.run(document,
		{runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa"], resultTypes: ["violations"]}).then(r => r.violations
		.map(v => v.id + ": " + v.help + "\n" + v.nodes.map(n => "  " + n.html).join("\n")).join("\n"))`,
		chromedp.EvalAwaitPromise))
	require.NoError(t, err)
	require.Empty(t, says, name)
}

func night(on bool) act {
	scheme := "light"
	if on {
		scheme = "dark"
	}
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia,
			emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme",
				Value: scheme}}})
		return err
	})
}

// press clicks an element once it stands still and nothing lies over it, as a
// person would: a page into which live data comes moves under the mouse.
func press[S ~string](sel S) act {
	find := fmt.Sprintf("document.querySelector(%q)", string(sel))
	if strings.HasPrefix(strings.TrimLeft(string(sel), "("), "/") {
		find = fmt.Sprintf("document.evaluate(%q, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE).singleNodeValue",
			string(sel))
	}
	where := chromedp.Evaluate[[]float64](`new Promise(resolve => {
		const n = `+find+`;
		if (!n || n.disabled) return resolve([]);
		n.scrollIntoView({block: "nearest"});
		const box = () => { const r = n.getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]; };
		const was = box();
		setTimeout(() => {
			const is = box(), top = document.elementFromPoint(...is);
			resolve(top && (n.contains(top) || top.contains(n)) && was[0] === is[0] && was[1] === is[1] ? is : []);
		}, 50);
	})`, chromedp.EvalAwaitPromise)
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for ctx.Err() == nil {
			at, err := where(ctx, t)
			if err != nil {
				return err
			}
			if len(at) == 2 {
				_, err := chromedp.MouseClickXY(at[0], at[1])(ctx, t)
				return err
			}
		}
		return fmt.Errorf("press %s: %w", sel, ctx.Err())
	})
}

// dropFile lets a file fall onto the page.
func dropFile(path string) act {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		data := &input.DragData{Items: []*input.DragDataItem{}, Files: []string{path}, DragOperationsMask: 1}
		for _, kind := range []input.DispatchDragEventType{"dragEnter", "dragOver", "drop"} {
			if _, err := cdp.Call(ctx, t, input.DispatchDragEvent,
				input.DispatchDragEventParams{Type: kind, X: 600, Y: 400, Data: data}); err != nil {
				return err
			}
		}
		return nil
	})
}

// onlyOption is one that is all that is left of a list: before, it may move away from where it is pressed.
const onlyOption = "*[@role='option'][not(preceding-sibling::*[@role='option'])]" +
	"[not(following-sibling::*[@role='option'])]"

func byText(tag, text string) chromedp.Search {
	return chromedp.Search("//" + tag + "[contains(normalize-space(.), '" + text + "')]")
}

func signInto(t *testing.T, ctx context.Context, e *estate) {
	t.Helper()
	do(t, ctx, "sign in", chromedp.Navigate(e.server), chromedp.WaitVisible(chromedp.CSS(`input[name=password]`)))
	accessible(t, ctx, "sign in")
	do(t, ctx, "sign in", chromedp.SendKeys(chromedp.CSS(`input[name=password]`), "wrong"),
		press(byText("button", "Sign in")),
		chromedp.WaitVisible(byText("p", "Name or password is wrong")),
		chromedp.Reload(), chromedp.WaitVisible(chromedp.CSS(`input[name=password]`)),
		chromedp.SendKeys(chromedp.CSS(`input[name=password]`), e.password), press(byText("button", "Sign in")),
		chromedp.WaitVisible(byText("h1", "Lineages")), chromedp.WaitVisible(byText("a", "tide-gauge")))
}

// TestConsole does what the console is for: sign in, drop a package, settle the
// choices, watch the job, see the family tree.
func TestConsole(t *testing.T) {
	e := ownEstate(t)
	file := tempFile(t, "tide-gauge.ova")
	e.ok(t, "export", "gannet/tide-gauge", file)
	ctx := browser(t)
	signInto(t, ctx, e)
	shot(t, ctx, "console-lineages")

	// A package that wants something told to its guest asks for it.
	wind := severalMachines(t)
	asking := tempFile(t, "wind.ova")
	out, err := exec.Command("tar", "-cf", asking, "--format=ustar", "-C", wind, "wind.ovf").CombinedOutput()
	require.NoError(t, err, string(out))
	do(t, ctx, "drop one that asks", dropFile(asking),
		chromedp.WaitVisible(chromedp.CSS(`input[aria-label=Host]:focus`)),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label=Host]`), "pet"),
		chromedp.WaitVisible(byText(onlyOption, "petrel")), press(byText(onlyOption, "petrel")),
		chromedp.WaitVisible(byText("*", "port=80.")),
		press(byText("summary", "What the package wants told to its guest")),
		chromedp.WaitVisible(chromedp.CSS(`input[aria-label=Port]`)),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label=Port]`), "8x\t"),
		chromedp.WaitVisible(byText("*", "is no uint16")), // and the box is still there
		chromedp.SendKeys(chromedp.CSS(`input[aria-label=Port]`), "\b\b8080\t"),
		chromedp.WaitVisible(byText("*", "port=8080.")))
	accessible(t, ctx, "what a package wants told")
	do(t, ctx, "not now", press(byText("button", "Close")), chromedp.WaitNotPresent(chromedp.CSS(`[role=dialog]`)))

	do(t, ctx, "drop", dropFile(file), chromedp.WaitVisible(chromedp.CSS(`input[aria-label=Host]:focus`)))
	do(t, ctx, "choose the host", chromedp.SendKeys(chromedp.CSS(`input[aria-label=Host]`), "pet"),
		chromedp.WaitVisible(byText(onlyOption, "petrel")),
		press(byText(onlyOption, "petrel")),
		chromedp.WaitVisible(byText("*", "identity.origin-alive")))
	text, err := chromedp.Run(ctx, chromedp.Text(chromedp.CSS(`[aria-label=Findings]`)))
	require.NoError(t, err)
	require.Contains(t, text, "It was made from gannet/tide-gauge")
	require.Contains(t, text, "belongs to gannet/tide-gauge (stopped) and petrel/tide-probe (stopped)")
	require.Contains(t, text, "becomes the switch labnet, by its segment")
	shot(t, ctx, "console-plan-sheet")
	// Another answer works the plan out again in place; then back.
	do(t, ctx, "settle", press(byText("*[@role='radio']", "Keep the identity")),
		chromedp.WaitVisible(byText("*", "identity.uuid-in-use")),
		press(byText("*[@role='radio']", "Renew the identity")),
		chromedp.WaitNotPresent(byText("*", "identity.uuid-in-use")))
	made := `//article[@aria-label='Import tide-gauge.ova']//a[contains(., 'See its lineage')]`
	do(t, ctx, "run", press(byText("button", "to petrel and register")), chromedp.WaitVisible(byText("h1", "Jobs")))
	do(t, ctx, "watch", chromedp.WaitVisible(chromedp.Search(made)))
	shot(t, ctx, "console-jobs")
	do(t, ctx, "see the tree", press(chromedp.Search(made)),
		chromedp.WaitVisible(chromedp.CSS(`svg[aria-label="Family tree of 3 copies"]`)),
		chromedp.WaitVisible(card("petrel: tide-gauge, ○ stopped")))
	shot(t, ctx, "console-family-tree")

	// The picture updates by itself when somebody else does something.
	e.ok(t, "power", "on", "petrel/tide-gauge")
	do(t, ctx, "updates by itself", chromedp.WaitVisible(card("petrel: tide-gauge, ● running")))
	do(t, ctx, "night", night(true))
	accessible(t, ctx, "console-family-tree-night")
	do(t, ctx, "day", night(false))

	// Export from the tree: the machine runs, and goes on.
	do(t, ctx, "export", press(card("petrel: tide-gauge, ● running")),
		press(byText("button", "Export")),
		chromedp.WaitVisible(chromedp.CSS(`select[aria-label=Destination]`)),
		chromedp.SendKeys(chromedp.CSS(`select[aria-label=Destination]`), "shelf attic"),
		chromedp.WaitVisible(byText("*", "state.running")), press(byText("button", "to the shelf attic")),
		chromedp.WaitVisible(card("attic (shelf): tide-gauge, ▣ package")))
	// And to this computer: the browser saves a whole package.
	saved := t.TempDir()
	do(t, ctx, "save", chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := cdp.Call(ctx, target, browserdomain.SetDownloadBehavior,
			browserdomain.SetDownloadBehaviorParams{Behavior: "allow", DownloadPath: saved})
		return err
	}), chromedp.WaitNotPresent(chromedp.CSS(`[role=dialog]`)), press(card("gannet: tide-gauge")),
		chromedp.WaitVisible(byText("h2", "gannet/tide-gauge")), press(byText("button", "Export")),
		chromedp.WaitVisible(byText("*", "kept aside at gannet")),
		chromedp.WaitVisible(byText("*", "It keeps its MACs")), press(byText("label", "to hand it out")),
		chromedp.WaitVisible(byText("*", "The receiver does not get: MACs")),
		press(byText("summary", "what the receiver sees")), chromedp.WaitVisible(byText("legend", "Leave out")))
	accessible(t, ctx, "export sheet")
	do(t, ctx, "save", press(byText("button", "on this computer")))
	wait.Until(t, func() bool {
		out := e.run(t, "inspect", filepath.Join(saved, "tide-gauge.ova"), "--verify")
		return out.status == 0 && strings.Contains(out.out, "manifest ok") &&
			strings.Contains(out.out, "machine UUID –")
	})

	// A clone is told who it is, and says so once it knows.
	do(t, ctx, "another lineage", chromedp.WaitNotPresent(chromedp.CSS(`[role=dialog]`)),
		press(byText("a", "Lineages")), chromedp.WaitVisible(byText("h1", "Lineages")),
		press(byText("a", "training-01")), chromedp.WaitVisible(byText("h2", "gannet/training-01")),
		chromedp.WaitVisible(chromedp.CSS(`ol[aria-label="Chain of disk1"]`)))
	do(t, ctx, "clone", press(byText("button", "Clone")), chromedp.WaitVisible(byText("*", "identity.guest-inside")))
	do(t, ctx, "tell it", press(byText("summary", "when it starts for the first time")),
		press(byText("button", "Begin with its name")),
		chromedp.WaitVisible(byText("*", "first-start.unsure")))
	accessible(t, ctx, "clone sheet")
	do(t, ctx, "first start", press(byText("button", "Make 1 clone")), press(card("gannet: training-01-2")),
		chromedp.WaitVisible(byText("dt", "First start")), press(byText("button", "It has read it")),
		press(byText("button", "Put away what it was told")), chromedp.WaitNotPresent(byText("dt", "First start")))

	do(t, ctx, "hosts", press(byText("a", "Hosts")), chromedp.WaitVisible(byText("h1", "Hosts")),
		press(byText("span", "gannet")),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label=gannet]`)),
		chromedp.WaitVisible(byText("a", "archive-db")))
	shot(t, ctx, "console-hosts")
	do(t, ctx, "the next row by key", chromedp.KeyEvent("j"), chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label=petrel]`)))
	do(t, ctx, "hand over", press(chromedp.CSS(`button[aria-label="Manage the pool reef"]`)),
		press(byText("button", "Hand over")), chromedp.WaitVisible(byText("*", "pool.in-use")))
	accessible(t, ctx, "hand-over sheet")
	do(t, ctx, "leave it", press(chromedp.Search("//*[@role='dialog']//button[.='Close']")),
		chromedp.WaitNotPresent(chromedp.CSS(`[role=dialog]`)))

	do(t, ctx, "packages", press(byText("a", "Packages")), chromedp.WaitVisible(byText("h1", "Packages")),
		chromedp.WaitVisible(byText("span", "attic/tide-gauge.ova")))
	shot(t, ctx, "console-packages")

	do(t, ctx, "be told", press(byText("a", "Jobs")), chromedp.WaitVisible(byText("h1", "Jobs")),
		press(byText("summary", "Be told of your jobs")),
		chromedp.SendKeys(chromedp.CSS(`details select`), "by a call"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Web address"]`), "http://127.0.0.1:9/jobs"),
		press(byText("button", "Tell me")), chromedp.WaitVisible(byText("p", "Calls are signed with the secret")))
	accessible(t, ctx, "being told")
	do(t, ctx, "no more", press(byText("button", "No more")),
		chromedp.WaitVisible(byText("summary", "Be told of your")))

	// A folder that was copied by hand: registered where it lies.
	do(t, ctx, "register", press(byText("a", "Lineages")), chromedp.WaitVisible(byText("h1", "Lineages")),
		press(byText("a", "chart-render")),
		press(card("gannet: chart-render")),
		press(byText("button", "Register")), chromedp.WaitVisible(byText("*", "identity.origin-alive")),
		chromedp.WaitVisible(byText("button", "Register it where it lies, on gannet")))
	do(t, ctx, "register it", chromedp.WaitEnabled(byText("button", "Register it where it lies, on gannet")),
		press(byText("button", "Register it where it lies, on gannet")),
		chromedp.WaitVisible(card("gannet: chart-render, ○ stopped")))
	require.Equal(t, "registered", string(get[openapi.Copy](t, e, "copies", "gannet/chart-render").Form))

	// What is changed about a copy is planned as it is typed.
	do(t, ctx, "change", press(byText("button", "Change")),
		chromedp.WaitVisible(byText("button", "Nothing is different yet")),
		chromedp.SendKeys(chromedp.CSS(`input[type=number]`), "9"), chromedp.WaitVisible(byText("*", "cpu.too-many")),
		chromedp.WaitEnabled(byText("button", "Change gannet/chart-render")),
		press(byText("button", "Change gannet/chart-render")), chromedp.WaitNotPresent(byText("*", "cpu.too-many")))
	wait.Until(t, func() bool {
		return get[openapi.Copy](t, e, "copies",
			"gannet/chart-render").Machine.Cpus == 16
	})

	// A disk whose parent has gone is shown with what is wrong.
	do(t, ctx, "a chain", press(byText("a", "Lineages")), chromedp.WaitVisible(byText("h1", "Lineages")),
		press(byText("a", "training-03")),
		chromedp.WaitVisible(chromedp.CSS(`ol[aria-label="Chain of disk1"]`)))
	shot(t, ctx, "console-machine")

	// Rules of wiring, with a try-out.
	e.ok(t, "wiring", "set", "--network", "Wet lab*", "--segment", "lab")
	e.ok(t, "wiring", "set", "--segment", "visitors", "--switch", "quarantine", "--host", "gannet")
	do(t, ctx, "wiring", press(byText("a", "Wiring")), chromedp.WaitVisible(byText("h1", "Wiring")),
		chromedp.WaitVisible(byText("*[@role='cell']", "Wet lab*")),
		chromedp.SendKeys(chromedp.CSS(`section[aria-label="Try it out"] input[aria-label=Network]`), "Wet lab 7"),
		chromedp.SendKeys(chromedp.CSS(`section[aria-label="Try it out"] input[aria-label=Host]`), "pet"),
		press(byText(onlyOption, "petrel")), chromedp.WaitVisible(byText("*[@role='status']", "labnet")))
	shot(t, ctx, "console-wiring")

	// A file that is no package is refused with the reason.
	bad := tempFile(t, "notes.ova")
	require.NoError(t, os.WriteFile(bad, []byte("these are only notes, padded to the length of a "+
		"header"+string(make([]byte, 1024))), 0o644))
	do(t, ctx, "a file that is no package", dropFile(bad), chromedp.WaitVisible(byText("p", "is no package")))
}
