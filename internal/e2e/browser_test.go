package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// page is a tab of a real browser.
type page struct {
	t   *testing.T
	ctx context.Context
}

func newPage(t *testing.T) *page {
	t.Helper()
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-sync", true), chromedp.UserDataDir(t.TempDir()))
	alloc, cancelAlloc := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, cancel := chromedp.NewContext(alloc)
	t.Cleanup(func() { cancel(); cancelAlloc() })
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)), "Chromium does not start")
	return &page{t, ctx}
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 90*time.Second)
	defer cancel()
	require.NoError(p.t, chromedp.Do(ctx, steps...))
}

// eval runs JavaScript and returns its value.
func eval[T any](p *page, js string) T {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 90*time.Second)
	defer cancel()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](js))
	require.NoError(p.t, err, js)
	return v
}

// until waits for an expression to become true.
func (p *page) until(js, why string) {
	p.t.Helper()
	deadline := time.Now().Add(90 * time.Second)
	for !eval[bool](p, js) {
		if time.Now().After(deadline) {
			require.Fail(p.t, why, "the page shows:\n%s", eval[string](p, "document.body.innerText"))
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// sees waits for a text.
func (p *page) sees(text string) {
	p.t.Helper()
	p.until(fmt.Sprintf("document.body.innerText.includes(%q)", text), "expected the page to show "+text)
}

// press clicks what a person would call by this text.
func (p *page) press(text string) {
	p.t.Helper()
	find := fmt.Sprintf(`[...document.querySelectorAll('button,a,[role=row],[role=button],[role=tab]')].filter(e => e.textContent.includes(%[1]q) || (e.getAttribute('aria-label') ?? '').includes(%[1]q)).filter(e => !e.disabled).at(-1)`, text)
	p.until("!!("+find+")", "expected something to press called "+text)
	eval[bool](p, `(() => { const e = `+find+`; if (e instanceof SVGElement) e.dispatchEvent(new MouseEvent('click', {bubbles: true})); else if (e.getAttribute('role') === 'tab') { e.focus(); e.dispatchEvent(new MouseEvent('mousedown', {bubbles: true, button: 0})); } else e.click(); return true })()`)
}

// fill replaces an input's text as typing would.
func (p *page) fill(selector, text string) {
	p.t.Helper()
	p.until(fmt.Sprintf("!!document.querySelector(%q)", selector), "expected an input "+selector)
	eval[bool](p, fmt.Sprintf(`(() => { const e = document.querySelector(%q); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(e, %q); e.dispatchEvent(new Event('input', {bubbles: true})); return true })()`, selector, text))
}

// shot keeps a picture when TWINNING_SHOTS names a folder.
func (p *page) shot(name string, dark bool) {
	p.t.Helper()
	dir := os.Getenv("TWINNING_SHOTS")
	if dir == "" {
		return
	}
	scheme := map[bool]string{true: "dark", false: "light"}[dark]
	time.Sleep(400 * time.Millisecond)
	ctx, cancel := context.WithTimeout(p.ctx, 90*time.Second)
	defer cancel()
	require.NoError(p.t, setScheme(ctx, scheme))
	time.Sleep(200 * time.Millisecond)
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	require.NoError(p.t, err)
	require.NoError(p.t, os.MkdirAll(dir, 0o750))
	require.NoError(p.t, os.WriteFile(filepath.Join(dir, name+".png"), png, 0o600))
	require.NoError(p.t, setScheme(ctx, "light"))
}

// accessible holds the page against axe-core, and against its width.
func (p *page) accessible(where string) {
	p.t.Helper()
	axe, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	require.NoError(p.t, err)
	eval[bool](p, string(axe)+"; true")
	eval[bool](p, `window.__axe = null; axe.run().then(r => { window.__axe = r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.target.join(' ')).slice(0, 3).join(', ')).join('\n') }); true`)
	p.until("window.__axe !== null", "axe did not answer")
	require.Empty(p.t, eval[string](p, "window.__axe"), "axe on %s", where)
	require.LessOrEqual(p.t, eval[int](p, "document.documentElement.scrollWidth"), 1280, "%s is wider than the window", where)
}

// The walk of an engineer: sign in, balance, finding, why, plan, seal, run,
// verified.
func TestConsole(t *testing.T) {
	h := newHouse(t)
	p := newPage(t)
	p.do(chromedp.Navigate(h.url))
	p.sees("Sign in")
	p.accessible("sign-in")
	p.fill("input[autocomplete=username]", "admin")
	p.fill("input[type=password]", "wrong password")
	p.press("Sign in")
	p.sees("name or password is wrong")
	p.shot("sign-in", false)
	p.fill("input[type=password]", h.app.Password)
	p.press("Sign in")
	p.sees("hq-dome-booking")
	p.accessible("lanes")
	p.shot("lanes", false)

	p.press("hq-dome-booking")
	p.sees("contradictory-keys")
	p.accessible("lane")
	p.shot("lane", false)
	p.shot("lane-dark", true)
	p.press("contested 7 people")
	p.until("document.querySelectorAll('[role=gridcell] [data-state=contested]').length === 7", "a click on a part lists just its records")
	p.press("Rosa Yáñez")
	p.sees("also carried by account u90925")
	p.accessible("why")
	p.shot("why", false)

	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking"))
	p.press("Draft a plan of")
	p.sees("carla.montt-riquelme@larkspur.example")
	p.accessible("plan")
	p.shot("plan", false)
	p.shot("plan-dark", true)
	total := eval[string](p, "document.querySelector('h1').innerText.match(/: (.*) changes/)[1]")
	p.press("Seal " + total + " changes")
	p.fill("input[inputmode=numeric]", "1")
	require.True(t, eval[bool](p, "document.querySelector('[role=dialog] button[type=submit]').disabled"), "a wrong count does not seal")
	p.fill("input[inputmode=numeric]", total)
	p.shot("seal", false)
	p.press("Seal " + total + " changes")
	p.sees("sealed by admin")
	p.press("Run " + total + " changes")
	p.fill("input[inputmode=numeric]", total)
	p.press("Run " + total + " changes")
	p.sees("finished, drafted")
	p.sees(total + " done")
	p.press("Read every account again")
	p.sees(total + " confirmed")
	p.shot("verified", false)

	p.press("Systems")
	p.sees("dome-booking")
	p.accessible("systems")
	p.press("hq")
	p.sees("11 cells where the header has 10")
	p.accessible("system")
	p.shot("system", false)
	p.press("Tasks")
	p.sees("verify run")
	p.accessible("tasks")
	p.press("Freeze all writing")
	p.sees("All writing is frozen by admin")
	p.press("Let writing go on")
	p.sees("Freeze all writing")
}

func setScheme(ctx context.Context, scheme string) error {
	return chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}})
		return err
	}))
}
