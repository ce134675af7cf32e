// Package browser drives the console in a headless Chromium, for tests and screenshots.
package browser

import (
	"context"
	"fmt"
	"os"
	"time"

	"github.com/chromedp/chromedp"
)

// Page is one tab.
type Page struct {
	ctx   context.Context
	close func()
}

// Open starts a browser with a profile of its own.
func Open(ctx context.Context, width, height int) (*Page, error) {
	profile, err := os.MkdirTemp("", "urgentis-browser-")
	if err != nil {
		return nil, err
	}
	opts := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.Flag(
			"no-sandbox",
			true,
		),
		chromedp.Flag("disable-gpu", true),
		chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag(
			"hide-scrollbars",
			true,
		),
		chromedp.Flag("disable-dev-shm-usage", true),
		chromedp.UserDataDir(profile),
		chromedp.WindowSize(width, height),
	)
	actx, acancel := chromedp.NewExecAllocator(ctx, opts...)
	tab, tcancel := chromedp.NewContext(actx)
	p := &Page{ctx: tab, close: func() { tcancel(); acancel(); os.RemoveAll(profile) }}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		p.close()
		return nil, fmt.Errorf("start the browser: %w", err)
	}
	return p, nil
}

// Close ends the browser.
func (p *Page) Close() { p.close() }

func run[T any](p *Page, what string, a chromedp.Action[T]) (T, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	v, err := chromedp.Run(ctx, a)
	if err != nil {
		return v, fmt.Errorf("%s: %w", what, err)
	}
	return v, nil
}

func only[T any](_ T, err error) error { return err }

// patience is long: under load a page is slow, and that is no fault.
const patience = time.Minute

// Go opens an address.
func (p *Page) Go(url string) error { return only(run(p, "open "+url, chromedp.Navigate(url))) }

// See waits until a text stands on the page.
func (p *Page) See(text string) error {
	return p.Until(fmt.Sprintf("!!document.body && document.body.innerText.includes(%q)", text))
}

// Until waits until an expression is true.
func (p *Page) Until(js string) error {
	err := only(run(p, "wait for "+js, chromedp.Poll[bool](js, chromedp.WithPollingInterval(50*time.Millisecond),
		chromedp.WithPollingTimeout(patience))))
	if err != nil {
		said, _ := p.Text("document.body.innerText.slice(0, 600)")
		return fmt.Errorf("%w; the page says: %s", err, said)
	}
	return nil
}

// Type writes into a field.
func (p *Page) Type(selector, text string) error {
	return only(run(p, "type into "+selector, chromedp.SendKeys(chromedp.CSS(selector), text)))
}

// Fill writes into a field that is empty, again where keys went astray while the page moved its focus.
func (p *Page) Fill(selector, text string) error {
	for range 3 {
		if err := p.Type(selector, text); err != nil {
			return err
		}
		has, err := p.Text(fmt.Sprintf("document.querySelector(%q).value", selector))
		if err != nil || has == text {
			return err
		}
		_, err = p.Text(fmt.Sprintf(`(e => { e.value = ''; e.dispatchEvent(new Event('input')); return '' })(
			document.querySelector(%q))`, selector))
		if err != nil {
			return err
		}
	}
	return fmt.Errorf("%s does not take what is typed", selector)
}

// Click clicks an element once it rests: on a page that still moves, a click goes where it was.
func (p *Page) Click(selector string) error {
	rests := fmt.Sprintf(`(() => {
		const r = document.querySelector(%q)?.getBoundingClientRect()
		const at = r ? [r.x, r.y, r.width, r.height].join() : ''
		window.rested = at && at === window.restedAt ? (window.rested ?? 0) + 1 : 0
		window.restedAt = at
		return window.rested >= 2
	})()`, selector)
	if err := p.Until(rests); err != nil {
		return err
	}
	return only(run(p, "click "+selector, chromedp.Click(chromedp.CSS(selector))))
}

// Press types keys on whatever has the focus.
func (p *Page) Press(keys string) error {
	return only(run(p, "press "+keys, chromedp.KeyEvent(keys)))
}

// Chord presses a key with Ctrl.
func (p *Page) Chord(key string) error {
	return only(run(p, "press Ctrl "+key, chromedp.KeyEvent(key, chromedp.KeyModifiers(chromedp.ModifierCtrl))))
}

// Text gives the text that an expression, or a promise, comes to.
func (p *Page) Text(js string) (string, error) {
	return run(p, "evaluate", chromedp.Evaluate[string](js, chromedp.EvalAwaitPromise))
}

// SignIn signs in as a person.
func (p *Page) SignIn(url, name, password string) error {
	for _, f := range []func() error{
		func() error { return p.Go(url + "/sign-in") },
		func() error { return p.See("Sign in to Urgentis") },
		// The page takes the focus to the name late: keys meant for the password would follow it there.
		func() error { return p.Until(`document.activeElement?.name === 'username'`) },
		func() error { return p.Fill(`input[name=username]`, name) },
		func() error { return p.Fill(`input[name=password]`, password) },
		func() error { return p.Until(`!document.querySelector('button[type=submit]').disabled`) },
		func() error { return p.Click(`button[type=submit]`) },
		func() error { return p.Until("!!document.querySelector('h1.lead')") },
	} {
		if err := f(); err != nil {
			return err
		}
	}
	return nil
}

// Theme makes the page light or dark from its next load on.
func (p *Page) Theme(name string) error {
	return only(p.Text(fmt.Sprintf("localStorage.setItem('urgentis-theme', %q); 'done'", name)))
}

// Shoot takes a picture of what is seen.
func (p *Page) Shoot(file string) error {
	// Transitions and fonts settle; nothing tells when.
	time.Sleep(500 * time.Millisecond)
	png, err := run(p, "take a picture", chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(file, png, 0o644) //nolint:gosec // a picture for everybody
}
