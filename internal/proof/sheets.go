package proof

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"fmt"
	"html"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"
)

const sheetStyle = `.sheet{display:none;overflow:auto;max-height:calc(100vh - 44px);background:#fff}` +
	`table{border-collapse:collapse;table-layout:fixed;font:13px Calibri,Carlito,"Source Sans 3",sans-serif}` +
	`td{border:1px solid #e5ddcd;padding:1px 4px;overflow:hidden;white-space:nowrap;vertical-align:bottom}` +
	`th{border:1px solid #d9d0bf;background:#f6f1e7;color:#5d6167;font-weight:400;font-size:11px;position:sticky;top:0}` +
	`th.n{left:0;width:36px}.tabs{display:flex;flex-wrap:wrap;gap:2px;padding:4px 10px}` +
	`.tabs label{padding:4px 12px;background:#e5ddcd;cursor:pointer}input{position:absolute;opacity:0}` +
	`input:focus-visible+span{outline:2px solid #86561b;outline-offset:2px}`

// sheets shows a workbook: each sheet with its rows as a spreadsheet shows them, its widths
// and its emphasis, and the tabs below. Charts are drawn by the program that opens it; a
// proof says where they are.
func sheets(out *strings.Builder, data []byte) error {
	book, err := excelize.OpenReader(bytes.NewReader(data),
		excelize.Options{UnzipSizeLimit: maxUnpacked, UnzipXMLSizeLimit: maxUnpacked})
	if err != nil {
		return fmt.Errorf("it is no workbook that can be read: %w", err)
	}
	defer func() { _ = book.Close() }() // only read from
	var names []string
	for _, name := range book.GetSheetList() {
		if shown, err := book.GetSheetVisible(name); err == nil && shown {
			names = append(names, name)
		}
	}
	all := len(names)
	names = names[:min(all, maxSheets)]
	style := sheetStyle
	for i := range names {
		style += fmt.Sprintf(`body:has(#t%[1]d:checked) #s%[1]d{display:block}`+
			`body:has(#t%[1]d:checked) label[for=t%[1]d]{background:#fff;font-weight:600}`, i)
	}
	begin(out, style)
	for i, name := range names {
		fmt.Fprintf(out, `<div class="sheet" id="s%d" tabindex="0" role="region" aria-label="%s">`, i, html.EscapeString(name))
		if err := sheet(out, book, name); err != nil {
			return fmt.Errorf("sheet %q: %w", name, err)
		}
		out.WriteString(`</div>`)
	}
	out.WriteString(`<div class="tabs" role="radiogroup" aria-label="Sheets">`)
	for i, name := range names {
		checked := ""
		if i == 0 {
			checked = " checked"
		}
		fmt.Fprintf(out, `<label for="t%d"><input type="radio" name="t" id="t%[1]d"%s><span>%s</span></label>`, i, checked,
			html.EscapeString(name))
	}
	out.WriteString(`</div>`)
	if charts := chartsIn(data); charts > 0 {
		note(out, "%d native chart%s: the program that opens the workbook draws %s.", charts, plural(charts, "s", ""),
			plural(charts, "them", "it"))
	}
	if len(names) < all {
		note(out, "The first %d of %d sheets; fetch the file for the others.", len(names), all)
	}
	return nil
}

func sheet(out *strings.Builder, book *excelize.File, name string) error {
	grid, err := firstRows(book, name)
	if err != nil {
		return err
	}
	across := 1
	for _, row := range grid.cells {
		across = max(across, len(row))
	}
	across = min(across, maxAcross)
	var columns strings.Builder
	wide := 36
	for c := range across {
		letter, _ := excelize.ColumnNumberToName(c + 1) // bounded by maxAcross
		width, err := book.GetColWidth(name, letter)
		if err != nil {
			return fmt.Errorf("read a width: %w", err)
		}
		pixels := int(width*7) + 5
		wide += pixels
		fmt.Fprintf(&columns, `<col style="width:%dpx">`, pixels) // ECMA-376 part 1, 18.3.1.13: of digits 7 wide
	}
	fmt.Fprintf(out, `<table style="width:%dpx"><colgroup><col style="width:36px">%s`, wide, columns.String())
	out.WriteString(`</colgroup><tr><th class="n"></th>`)
	for c := range across {
		letter, _ := excelize.ColumnNumberToName(c + 1)
		out.WriteString(`<th>` + letter + `</th>`)
	}
	out.WriteString(`</tr>`)
	looks := map[int]string{}
	pictured, err := book.GetPictureCells(name)
	if err != nil {
		return fmt.Errorf("read where its pictures are: %w", err)
	}
	for r, row := range grid.cells {
		fmt.Fprintf(out, `<tr><th class="n">%d</th>`, r+1)
		// A picture stands over the cells of its row, as the program that opens the workbook sets it.
		if at := fmt.Sprintf("A%d", r+1); slices.Contains(pictured, at) {
			if err := picture(out, book, name, at, r+1, across); err != nil {
				return err
			}
			continue
		}
		for c := range across {
			if err := cell(out, book, name, row, r, c, looks); err != nil {
				return err
			}
		}
		out.WriteString(`</tr>`)
	}
	out.WriteString(`</table>`)
	if grid.more {
		note(out, "The first %d rows; fetch the file for the others.", len(grid.cells))
	}
	return nil
}

// picture writes a row of which a picture stands over all cells.
func picture(out *strings.Builder, book *excelize.File, name, at string, row, across int) error {
	all, err := book.GetPictures(name, at)
	if err != nil {
		return fmt.Errorf("read the picture at %s: %w", at, err)
	}
	high, err := book.GetRowHeight(name, row)
	if err != nil {
		return fmt.Errorf("read a height: %w", err)
	}
	fmt.Fprintf(out, `<td colspan="%d">`, across)
	for _, p := range all {
		if p.Extension == ".png" {
			fmt.Fprintf(out, `<img alt="%s" style="height:%.0fpx;vertical-align:top" src="data:image/png;base64,%s">`,
				html.EscapeString(p.Format.AltText), high*4/3-4, base64.StdEncoding.EncodeToString(p.File))
		}
	}
	out.WriteString(`</td></tr>`)
	return nil
}

func plural(n int, many, one string) string {
	if n == 1 {
		return one
	}
	return many
}

// grid is the first rows of a sheet, as they are shown.
type grid struct {
	cells [][]string
	more  bool
}

func firstRows(book *excelize.File, name string) (grid, error) {
	var g grid
	rows, err := book.Rows(name)
	if err != nil {
		return g, fmt.Errorf("read the rows: %w", err)
	}
	defer func() { _ = rows.Close() }() // only read from
	for rows.Next() {
		if len(g.cells) == maxRows {
			g.more = true
			break
		}
		cells, err := rows.Columns()
		if err != nil {
			return g, fmt.Errorf("read the rows: %w", err)
		}
		g.cells = append(g.cells, cells)
	}
	return g, nil
}

// cell writes one cell; looks are the styles that were met.
func cell(out *strings.Builder, book *excelize.File, name string, row []string, r, c int, looks map[int]string) error {
	at, err := excelize.CoordinatesToCellName(c+1, r+1)
	if err != nil {
		return fmt.Errorf("name a cell: %w", err)
	}
	id, err := book.GetCellStyle(name, at)
	if err != nil {
		return fmt.Errorf("read the style of %s: %w", at, err)
	}
	if _, ok := looks[id]; !ok {
		if looks[id], err = lookOf(book, id); err != nil {
			return err
		}
	}
	text, align := "", ""
	if c < len(row) {
		text = row[c]
	}
	if kind, err := book.GetCellType(name, at); err == nil && text != "" &&
		(kind == excelize.CellTypeNumber || kind == excelize.CellTypeUnset || kind == excelize.CellTypeDate) {
		align = "text-align:right;"
	}
	if c == len(row)-1 && align == "" {
		align = "overflow:visible;" // a text runs on over cells that are empty
	}
	out.WriteString(`<td style="` + align + looks[id] + `">` + html.EscapeString(text) + `</td>`)
	return nil
}

// lookOf is a style in CSS.
func lookOf(book *excelize.File, id int) (string, error) {
	s, err := book.GetStyle(id)
	if err != nil {
		return "", fmt.Errorf("read a style: %w", err)
	}
	var css strings.Builder
	if f := s.Font; f != nil {
		if f.Bold {
			css.WriteString("font-weight:600;")
		}
		if isColour(f.Color) {
			css.WriteString("color:#" + f.Color + ";")
		}
		if f.Size > 0 && f.Size < 100 {
			fmt.Fprintf(&css, "font-size:%.1fpx;", f.Size*13/11)
		}
	}
	if len(s.Fill.Color) > 0 && isColour(s.Fill.Color[0]) {
		css.WriteString("background:#" + s.Fill.Color[0] + ";")
	}
	if a := s.Alignment; a != nil {
		if a.WrapText {
			css.WriteString("white-space:pre-wrap;")
		}
		if a.Vertical == "top" {
			css.WriteString("vertical-align:top;")
		}
		switch a.Horizontal {
		case "right", "left", "center":
			css.WriteString("text-align:" + a.Horizontal + ";")
		}
	}
	for _, b := range s.Border {
		if b.Type == "top" && isColour(b.Color) && b.Style > 0 {
			css.WriteString("border-top:1px solid #" + b.Color + ";")
		}
	}
	return css.String(), nil
}

func isColour(s string) bool {
	return len(s) == 6 && strings.Trim(strings.ToUpper(s), "0123456789ABCDEF") == ""
}

// chartsIn counts the native charts of a workbook (ECMA-376 part 1, 21.2).
func chartsIn(data []byte) int {
	parts, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return 0
	}
	n := 0
	for _, f := range parts.File {
		if strings.HasPrefix(f.Name, "xl/charts/chart") {
			n++
		}
	}
	return n
}
