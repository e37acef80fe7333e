package e2e

import (
	"context"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// browser is a Chromium without a window, with a profile of its own.
type browser struct {
	t *testing.T
	// ctx is for what is done in it, whole for the browser itself.
	ctx, whole context.Context
	ended      sync.Once
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
	bounded, cancel := context.WithTimeout(ctx, 2*patience)
	t.Cleanup(cancel)
	b := &browser{t: t, ctx: bounded, whole: ctx}
	t.Cleanup(b.end)
	return b
}

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	require.NoError(b.t, chromedp.Do(b.ctx, steps...))
}

// end waits until it has ended, if the test is to go on without it.
func (b *browser) end() {
	b.t.Helper()
	b.ended.Do(func() { assert.NoError(b.t, chromedp.Cancel(b.whole)) })
}

// evaluate returns what a script of the page says.
func evaluate[V any](t *testing.T, ctx context.Context, script string) V {
	t.Helper()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[V](script))
	require.NoError(t, err)
	return v
}
