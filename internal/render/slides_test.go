package render_test

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/render"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	frame = regexp.MustCompile(`<p:graphicFrame>.*?<p:xfrm><a:off x="\d+" y="(\d+)"/><a:ext cx="(\d+)" cy="(\d+)"/>`)
	rowOf = regexp.MustCompile(`<a:tr h="(\d+)">`)
	colOf = regexp.MustCompile(`<a:gridCol w="(\d+)"/>`)
)

func sum(t *testing.T, found [][]string) (all int) {
	t.Helper()
	for _, m := range found {
		n, err := strconv.Atoi(m[1])
		require.NoError(t, err)
		all += n
	}
	return all
}

// slidesOf are the slides of a presentation with a table, by their number.
func slidesOf(parts map[string]string) (slides []string) {
	for n := 1; parts[fmt.Sprintf("ppt/slides/slide%d.xml", n)] != ""; n++ {
		slides = append(slides, parts[fmt.Sprintf("ppt/slides/slide%d.xml", n)])
	}
	return slides
}

// A slide holds as many rows as it has room for, whatever stands in them; none runs off it.
func TestTablesFitTheirSlides(t *testing.T) {
	const foot = 6858000 - 420000
	for name, text := range map[string]string{
		"short": "Kittiwake", "long": strings.Repeat("waits for the tide at the outer quay ", 5),
		"one word": strings.Repeat("Unladenfreightvehicle", 8), "lines": "first\nsecond\nthird",
		"more than a slide": strings.Repeat("a remark that goes on ", 600),
	} {
		one := table{section: job.Section{Name: "Remarks by ship"}, columns: []rows.Column{
			{Name: "Ship", Kind: rows.Text}, {Name: "Remark", Kind: rows.Text}, {Name: "Passengers", Kind: rows.Whole},
		}}
		for r := range 29 {
			one.rows = append(one.rows, row(fmt.Sprintf("Ship %02d", r), text, "1234567"))
		}
		out, says, err := file(t, job.Output{Format: "pptx"}, head(), one)
		require.NoError(t, err, name)
		slides := slidesOf(unzip(t, out))[1:]
		all := strings.Join(slides, "")
		for r := range 29 {
			assert.Equal(t, 1, strings.Count(all, fmt.Sprintf(">Ship %02d<", r)), name)
		}
		assert.Contains(t, slides[0], fmt.Sprintf("Remarks by ship (1/%d)", len(slides)))
		for _, s := range slides {
			m := frame.FindStringSubmatch(s)
			require.NotNil(t, m)
			top, err := strconv.Atoi(m[1])
			require.NoError(t, err)
			assert.LessOrEqual(t, top+sum(t, rowOf.FindAllStringSubmatch(s, -1)), foot, name)
			assert.LessOrEqual(t, sum(t, colOf.FindAllStringSubmatch(s, -1)), 12192000-2*609600+10, name)
		}
		if len(slides) > 1 && name != "more than a slide" {
			assert.GreaterOrEqual(t, strings.Count(slides[len(slides)-1], ">Ship "), 2, "%s: a row stands alone", name)
		}
		assert.Equal(t, name == "more than a slide", strings.Contains(strings.Join(says, ""), "is cut short"), name)
	}
}

// A table that is too wide for a slide comes in parts; its numbers are not broken.
func TestWideTablesArePartedOverSlides(t *testing.T) {
	wide := table{section: job.Section{Name: "Wide", Key: []string{"Ship"}}, columns: []rows.Column{{Name: "Ship", Kind: rows.Text}}}
	for i := 1; i < 20; i++ {
		wide.columns = append(wide.columns, rows.Column{Name: fmt.Sprintf("Measurement%02d", i), Kind: rows.Whole})
	}
	for r := range 4 {
		cells := []string{fmt.Sprintf("Kittiwake %d", r)}
		for i := 1; i < 20; i++ {
			cells = append(cells, fmt.Sprint(1000000+100*r+i))
		}
		wide.rows = append(wide.rows, row(cells...))
	}
	slides := slidesOf(unzip(t, made(t, job.Output{Format: "pptx"}, wide)))[1:]
	require.Greater(t, len(slides), 1)
	all := strings.Join(slides, "")
	for r := range 4 {
		for i := 1; i < 20; i++ {
			require.Equal(t, 1, strings.Count(all, ">"+humanized(1000000+100*r+i)+"<"))
		}
	}
	for _, s := range slides {
		assert.Contains(t, s, ">Kittiwake 3<", "each part says whose numbers they are")
		assert.NotContains(t, s, `sz="700"`)
	}
}

// A title that is long is smaller, and then cut short; it does not lie over what stands below it.
func TestLongTitlesStayInTheirPlace(t *testing.T) {
	for n, want := range map[int]string{1: `sz="2600"`, 14: `sz="2`, 200: "…"} {
		one := sailings(3)
		one.section.Name = strings.TrimSpace(strings.Repeat("Sailings ", n))
		slides := slidesOf(unzip(t, made(t, job.Output{Format: "pptx"}, one)))
		title, _, _ := strings.Cut(slides[1], "<p:graphicFrame>")
		assert.Contains(t, title, want, "%d words", n)
		assert.Equal(t, n == 1, strings.Contains(title, `sz="2600"`), "%d words", n)
		assert.Contains(t, slides[1], ">Sailing 2<")
	}
}

func TestFiguresAndTextsGoOnOnTheNextSlide(t *testing.T) {
	many := table{section: job.Section{Name: "Figures", Kind: job.SectionFigures}}
	var cells []string
	for i := range 20 {
		many.columns = append(many.columns, rows.Column{Name: fmt.Sprintf("Figure %02d", i), Kind: rows.Number})
		cells = append(cells, "1234567890123.45")
	}
	many.rows = []rows.Row{row(cells...)}
	long := words
	long.section.Text = strings.Repeat("Two storms closed Grey Skerry.\n\n", 40)
	slides := slidesOf(unzip(t, made(t, job.Output{Format: "pptx"}, many, long)))
	all := strings.Join(slides, "")
	assert.Contains(t, all, "Figures (3/3)")
	for i := range 20 {
		assert.Contains(t, all, fmt.Sprintf(">Figure %02d<", i))
	}
	assert.NotContains(t, all, `sz="4000"`, "a long number is smaller")
	assert.Contains(t, all, "Remarks (2/")
	assert.Equal(t, 40, strings.Count(all, "Two storms closed Grey Skerry."))
}

// Whoever speaks finds in the notes what a slide was made of.
func TestSlidesHaveNotes(t *testing.T) {
	parts := unzip(t, made(t, job.Output{Format: "pptx", Locale: "de"}, figures, loads))
	for n := range slidesOf(parts) {
		notes := parts[fmt.Sprintf("ppt/notesSlides/notesSlide%d.xml", n+1)]
		assert.Contains(t, notes, "Gelesen als ferry_reports at tarnwick")
		assert.Contains(t, notes, "Ports: Ellerhaven, Grey Skerry")
		assert.Contains(t, notes, "Lauf 2611-48211")
	}
	assert.Contains(t, parts["ppt/notesSlides/notesSlide3.xml"], "Vehicle deck load")
	assert.Contains(t, parts["[Content_Types].xml"], "/ppt/notesMasters/notesMaster1.xml")
}

// A slide on a grid is one, with all its parts within it; what it does not hold is refused with what to do.
func TestASlideOnAGrid(t *testing.T) {
	o := job.Output{Format: "pptx", Page: &job.Page{Grid: true}}
	figures := table{
		section: job.Section{Name: "The week", Kind: job.SectionFigures},
		columns: []rows.Column{{Name: "Sailings", Kind: rows.Whole}, {Name: "A label that goes on for long", Kind: rows.Whole}},
		rows:    []rows.Row{row("560", "123456789012")},
	}
	drawn := sailings(9)
	drawn.section.Kind, drawn.section.Chart = job.SectionChart, &job.Chart{Form: job.ChartLine, Along: "Day", Series: []string{"Passengers"}}
	for _, charts := range []int{0, 1, 2, 3, 4} {
		all := []table{figures}
		for range charts {
			all = append(all, drawn)
		}
		parts := unzip(t, made(t, o, all...))
		slides := 0
		for name := range parts {
			if strings.HasPrefix(name, "ppt/slides/slide") {
				slides++
			}
		}
		require.Equal(t, 1, slides)
		text := parts["ppt/slides/slide1.xml"]
		assert.Contains(t, text, "123,456,789,012")
		assert.Equal(t, charts, strings.Count(text, "<p:pic>"))
		for _, m := range regexp.MustCompile(`<a:off x="(\d+)" y="(\d+)"/><a:ext cx="(\d+)" cy="(\d+)"/>`).FindAllStringSubmatch(text, -1) {
			var at [4]int
			for i := range at {
				_, err := fmt.Sscan(m[i+1], &at[i])
				require.NoError(t, err)
			}
			assert.LessOrEqual(t, at[0]+at[2], 12192000)
			assert.LessOrEqual(t, at[1]+at[3], 6858000)
			assert.Positive(t, at[3])
		}
	}
	for _, bad := range []struct {
		tables []table
		says   string
	}{
		{[]table{sailings(3)}, "the section Sailings is a table"},
		{[]table{drawn, drawn, drawn, drawn, drawn}, "more than 4 charts"},
		{[]table{figures, figures, figures, figures, figures}, "more than 8 figures"},
	} {
		_, _, err := file(t, o, head(), bad.tables...)
		assert.ErrorContains(t, err, bad.says)
	}
	_, err := render.Read(job.Output{Format: "pptx", Page: &job.Page{Grid: true, OnePage: true}})
	assert.ErrorContains(t, err, "of pptx it says grid alone")
}
