// Package browser starts Debian's headless Chromium, for the console's tests
// and pictures.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// CSS is a selector.
type CSS = chromedp.CSS

// Start starts a browser with an empty profile. Stop ends it.
func Start(parent context.Context) (ctx context.Context, stop func(), err error) {
	bin := ""
	for _, name := range []string{"chromium", "chromium-browser"} {
		if p, err := exec.LookPath(name); err == nil {
			bin = p
			break
		}
	}
	if bin == "" {
		return nil, nil, fmt.Errorf("chromium is not installed: apt-get install chromium")
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(bin),
		chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-quic", true), chromedp.Flag("disable-dev-shm-usage", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("force-color-profile", "srgb"), chromedp.WindowSize(1280, 800),
	)
	if os.Geteuid() == 0 {
		opts = append(opts, chromedp.NoSandbox) // Chromium does not use its sandbox as root
	}
	alloc, endAlloc := chromedp.NewExecAllocator(parent, opts...)
	ctx, endTab := chromedp.NewContext(alloc)
	stop = func() { endTab(); endAlloc() }
	if err := chromedp.Do(ctx); err != nil {
		stop()
		return nil, nil, fmt.Errorf("starting chromium: %w", err)
	}
	return ctx, stop, nil
}

// Save writes a picture of the current page.
func Save(ctx context.Context, file string) error {
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(file, png, 0o644)
}

// Scheme renders the page as on a system set to "light" or "dark".
func Scheme(ctx context.Context, scheme string) error {
	_, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}},
	})
	return err
}
