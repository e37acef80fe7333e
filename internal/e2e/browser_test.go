package e2e

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// browser is a Chromium without a window, with a profile of its own.
type browser struct {
	t *testing.T
	// ctx is for what is done in it, whole for the browser itself.
	ctx, whole context.Context
}

// browse starts a browser with variables beside those of the test.
func browse(t *testing.T, env ...string) *browser {
	t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.UserDataDir(t.TempDir()), chromedp.Flag("disable-gpu", true), chromedp.Env(env...),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true))
	// The test's own context has ended when this is cleaned up.
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	t.Cleanup(func() { _ = chromedp.Cancel(ctx) }) // which waits until it has ended
	bounded, cancel := context.WithTimeout(ctx, 2*patience)
	t.Cleanup(cancel)
	return &browser{t, bounded, ctx}
}

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	require.NoError(b.t, chromedp.Do(b.ctx, steps...))
}

// end ends it before the test does.
func (b *browser) end() {
	b.t.Helper()
	require.NoError(b.t, chromedp.Cancel(b.whole))
}

// evaluate returns what a script of the page says.
func evaluate[V any](t *testing.T, ctx context.Context, script string) V {
	t.Helper()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[V](script))
	require.NoError(t, err)
	return v
}
