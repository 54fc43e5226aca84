package render

import (
	"fmt"
	"strings"

	"github.com/xuri/excelize/v2"
)

// Measures of a logo above a sheet, in points and dots.
const (
	logoRow  = 42.0
	logoHigh = 48.0
	logoWide = 260.0
	mostFoot = 250 // letters that a sheet's foot takes (ECMA-376 part 1, 18.3.1.46)
)

// font is the font of cells.
func (x *xlsxWriter) font() string {
	if x.style.Look.Family != "" {
		return x.style.Look.Family
	}
	return sheetFont
}

// foot sets what stands below a printed sheet: the house's line, and the number of the page.
func (x *xlsxWriter) foot() error {
	house := joined(x.style.Look.Footer, x.style.Look.Legal)
	if house == "" {
		return nil
	}
	letters := []rune(strings.ReplaceAll(strings.Join(strings.Fields(house), " "), "&", "&&"))
	text := string(letters[:min(len(letters), mostFoot-20)])
	if strings.HasSuffix(text, "&") && strings.Count(text, "&")%2 == 1 {
		text = strings.TrimSuffix(text, "&")
	}
	if err := x.file.SetHeaderFooter(x.name, &excelize.HeaderFooterOptions{OddFooter: "&L&8" + " " + text + "&R&P/&N"}); err != nil {
		return fmt.Errorf("write the foot of the sheet: %w", err)
	}
	return nil
}

// logo sets the logo above the title. It comes when the rows are written.
func (x *xlsxWriter) logo() error {
	logo := x.style.Look.Logo
	if logo == nil || x.style.DataOnly {
		return nil
	}
	w, _ := logo.Within(logoWide, logoHigh)
	scale := w / float64(logo.Width)
	if err := x.file.AddPictureFromBytes(x.name, "A1", &excelize.Picture{
		Extension: ".png", File: logo.PNG,
		Format: &excelize.GraphicOptions{AltText: x.style.Look.Name, ScaleX: scale, ScaleY: scale, OffsetX: 2, OffsetY: 4, Positioning: "absolute"},
	}); err != nil {
		return fmt.Errorf("set the logo: %w", err)
	}
	return nil
}
