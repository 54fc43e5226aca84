package render

import (
	"bytes"
	"fmt"
	"io"

	"github.com/xuri/excelize/v2"
)

// measured writes the parts of a workbook, and in each sheet the area that it takes (ECMA-376 part 1, 18.3.1.35):
// the library begins a sheet before it knows its rows, and whoever reads it as a stream would go by one cell.
type measured struct {
	excelize.ZipWriter

	refs map[string]string
}

// unmeasured is what the library writes instead.
var unmeasured = []byte(`<dimension ref="A1"></dimension>`)

func (m *measured) Create(name string) (io.Writer, error) {
	w, err := m.ZipWriter.Create(name)
	if ref := m.refs[name]; err == nil && ref != "" {
		return &dimension{to: w, ref: ref}, nil
	}
	return w, err
}

// dimension corrects the area of a sheet on the way. It stands among its first bytes.
type dimension struct {
	to   io.Writer
	ref  string
	head []byte
	done bool
}

const dimensionWithin = 4 << 10

func (d *dimension) Write(p []byte) (int, error) {
	if d.done {
		return d.to.Write(p)
	}
	d.head = append(d.head, p...)
	at := bytes.Index(d.head, unmeasured)
	if at < 0 && len(d.head) < dimensionWithin && !bytes.Contains(d.head, []byte("</worksheet>")) {
		return len(p), nil
	}
	d.done = true
	if at >= 0 {
		d.head = bytes.Replace(d.head, unmeasured, fmt.Appendf(nil, `<dimension ref="%s"></dimension>`, d.ref), 1)
	}
	_, err := d.to.Write(d.head)
	d.head = nil
	return len(p), err
}
