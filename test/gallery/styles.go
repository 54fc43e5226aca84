package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"

	"ironbell/internal/core/job"
	"ironbell/internal/house"
)

// The logos of the gallery: one of the company, one that is dark and wide.
const (
	ferryLogo = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 330 80">
<path d="M6 52h68l-10 18H20z" fill="#0f4c75"/><path d="M22 48V30h36v18z" fill="#3282b8"/><path d="M40 26V8" stroke="#0f4c75" stroke-width="5"/>
<path d="M2 76q10-8 20 0t20 0 20 0 20 0" stroke="#3282b8" stroke-width="4" fill="none"/>
<text x="92" y="38" font-size="27" font-weight="bold" fill="#0f4c75">Tarnwick Sound</text>
<text x="92" y="66" font-size="20" fill="#3282b8">Ferries</text></svg>`
	wideLogo = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 1200 60"><rect width="1200" height="60" fill="#101418"/>
<text x="30" y="42" font-size="34" font-weight="bold" fill="#ffffff">TARNWICK SOUND FERRIES · PORT OPERATIONS · FENNMOUTH</text></svg>`
)

// drawings are files of house styles by a name in place of a number.
type drawings map[string][]byte

// HouseFile implements house.Files.
func (d drawings) HouseFile(_ context.Context, id string) (job.HouseFile, []byte, error) {
	var w house.Weighed
	var out bytes.Buffer
	err := house.Weigh(&out, "", bytes.NewReader(d[id]))
	if err == nil {
		err = json.Unmarshal(out.Bytes(), &w)
	}
	if err != nil {
		return job.HouseFile{}, nil, fmt.Errorf("read %s: %w", id, err)
	}
	return job.HouseFile{ID: id, Kind: w.Kind, Width: w.Width, Height: w.Height}, w.Data, nil
}

// looked is a look of the gallery.
func looked(s job.HouseStyle) *house.Look {
	files := drawings{"ferry": []byte(ferryLogo), "wide": []byte(wideLogo)}
	const serif = "/usr/share/fonts/truetype/noto/NotoSerif-"
	for name, path := range map[string]string{"regular": serif + "Regular.ttf", "bold": serif + "Bold.ttf"} {
		data, err := os.ReadFile(path) //nolint:gosec // one of two that stand above
		if err != nil {
			s.Regular, s.Bold = "", "" // this machine has no such face
			continue
		}
		files[name] = data
	}
	look, err := house.Make(context.Background(), s, files)
	if err != nil {
		panic(err)
	}
	return look
}

// ferries is how the company looks.
func ferries() *house.Look {
	return looked(job.HouseStyle{
		Name: "Tarnwick Sound Ferries", Logo: "ferry", Accent: "#0f4c75", Ink: "#1b262c", Typeface: "Georgia", Regular: "regular",
		Bold: "bold", Series: []string{"#0f4c75", "#e08e2b", "#5b8c6a"}, Footer: "Tarnwick Sound Ferries · Quay House, Tarnwick",
		Legal: "For the use of whom it was sent to. Times are those of the harbour clock at Tarnwick Quay.",
	})
}

// dark has a dark and wide logo, an accent that is hard to read, and much small print.
func dark() *house.Look {
	return looked(job.HouseStyle{
		Name: "Port operations", Logo: "wide", Accent: "#ffd23f", Ink: "#000000", Footer: "Port operations",
		Legal: "This sheet replaces all earlier ones of the day. It is no timetable: sailings may be moved or cancelled for weather, " +
			"tide, or the safety of those on board, and the notices at the quays hold.",
	})
}
