package console

import (
	"bytes"
	"context"
	"image"
	"image/png"
	"os"
	"testing"

	"ironbell/test/browser"
	"ironbell/test/world"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A house style is made on screen: what it is made of, what some will not make out, and how everything looks in it.
func TestAHouseStyleIsMadeOnScreen(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	axe, err := os.ReadFile(world.Path("console/node_modules/axe-core/axe.min.js"))
	require.NoError(t, err)
	var logo bytes.Buffer
	require.NoError(t, png.Encode(&logo, image.NewNRGBA(image.Rect(0, 0, 60, 20))))
	file, err := w.C.AddHouseFile(ctx, "quay.png", logo.Bytes())
	require.NoError(t, err)

	p := w.ConsoleAs("sefa")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/settings/house"))
	p.Sees("There is none; everything looks as the service does by itself.")
	p.Press("//main", "Add a style")
	p.Sees("Its colours can be read by most.")
	p.Fill("Name", "Ferries")
	p.Fill("Logo", file.ID)
	p.Fill("Accent", "#ffe060")
	p.Sees("The accent (#FFE060) has a contrast of 1.3 on white")
	p.Fill("Letters", "blue")
	p.Sees(`"blue" is no colour`)
	p.Fill("Letters", "")
	p.Fill("Accent", "#0f4c75")
	p.Fill("Foot", "Quay House, Tarnwick")
	p.Sees("Its colours can be read by most.")
	p.Audit(axe, "a house style")
	p.Press("//main//form[@aria-label='House style']", "Save")
	w.Until("it is saved", func() bool {
		page, err := w.C.House(ctx)
		return err == nil && len(page.Styles) == 1 && page.Styles[0].Logo == file.ID && page.Styles[0].Accent == "#0f4c75" &&
			page.Styles[0].Footer == "Quay House, Tarnwick" && page.Styles[0].Ink == ""
	})
	frames, err := browser.Get(p.Tab, world.Patience,
		chromedp.Evaluate[int](`document.querySelectorAll('iframe[title$="in the house style"]').length`))
	require.NoError(t, err)
	assert.Equal(t, 6, frames, "in all forms side by side")
}
