package render_test

import (
	"reflect"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/render"

	"github.com/dustin/go-humanize"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Where a format is chosen its limit stands, and it is the one that holds.
func TestLimitsStandWhereTheyAreChosen(t *testing.T) {
	field, ok := reflect.TypeFor[job.Output]().FieldByName("Format")
	require.True(t, ok)
	said := field.Tag.Get("doc")
	for format, most := range map[string]int64{
		"pdf at most ": render.MaxPDF, "(": render.MaxTagged, "html ": render.MaxPage, "html-mail shows ": render.MailTableMax,
		"png ": render.MaxPicture, "pptx what ": render.MaxSlides,
	} {
		assert.Contains(t, said, format+humanize.Comma(most))
	}
}
