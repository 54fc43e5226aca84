package api

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/house"
	"ironbell/internal/render"

	"github.com/danielgtaylor/huma/v2"
)

// houseRoutes registers how what leaves the house looks.
func (s *server) houseRoutes(a huma.API) {
	tags := subject("service")
	huma.Register(a, tags.get("show-house", "/api/settings/house", "Show the styles of the house and their files"), s.showHouse)
	huma.Register(a,
		tags.put("save-house", "/api/settings/house", "Say how what leaves the house looks", refuses(403, 422), upTo(maxBody),
			says("The first style is that of all reports that choose none, and of the service's own mails. A style that a report "+
				"chooses cannot be left out.")), s.saveHouse)
	huma.Register(a,
		tags.post("check-house", "/api/settings/house/check", "Tell what is wrong with a house style, and which colours some will not make out",
			refuses(422)), s.checkHouse)
	huma.Register(a,
		tags.post("add-house-file", "/api/settings/house/files", "Upload a logo or a typeface", refuses(403, 422),
			upTo(house.MaxFile+1024),
			says("A PNG, an SVG of shapes, paths and texts, or a TrueType or OpenType typeface, 4 MB at most. It is read in a "+
				"process of its own; a picture is written anew as PNG. A file that no style uses is kept for a day.")),
		s.addHouseFile)
}

func (s *server) showHouse(ctx context.Context, _ *struct{}) (*struct{ Body wire.HousePage }, error) {
	page, err := s.housePage(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.HousePage }{page}, nil
}

func (s *server) housePage(ctx context.Context) (page wire.HousePage, err error) {
	page.Says = [][]string{}
	if page.HouseStyles, err = s.Store.HouseStyles(ctx); err != nil {
		return page, err
	}
	if page.Files, err = s.Store.HouseFiles(ctx); err != nil {
		return page, err
	}
	for _, style := range page.Styles {
		said := []string{}
		if look, err := house.Make(ctx, style, s.Store); err == nil {
			said = append(said, look.Says()...)
		} else {
			said = append(said, err.Error())
		}
		page.Says = append(page.Says, said)
	}
	return page, nil
}

func (s *server) saveHouse(ctx context.Context, in *struct{ Body job.HouseStyles }) (*struct{ Body wire.HousePage }, error) {
	who, _ := person(ctx)
	if err := s.Service.Settings.SaveHouse(ctx, who, in.Body); err != nil {
		return nil, s.problem(err)
	}
	return s.showHouse(ctx, nil)
}

func (s *server) checkHouse(ctx context.Context, in *struct{ Body job.HouseStyle }) (*struct{ Body wire.HouseSays }, error) {
	if err := s.Service.Settings.CheckHouse(ctx, job.HouseStyles{Styles: []job.HouseStyle{in.Body}}); err != nil {
		return nil, s.problem(err)
	}
	look, err := house.Make(ctx, in.Body, s.Store)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.HouseSays }{wire.HouseSays{Says: append([]string{}, look.Says()...)}}, nil
}

func (s *server) addHouseFile(ctx context.Context, in *struct {
	Name    string `query:"name" required:"true" minLength:"1" maxLength:"200" doc:"of the file"`
	RawBody []byte `contentType:"application/octet-stream"`
},
) (*struct{ Body job.HouseFile }, error) {
	who, _ := person(ctx)
	f, err := s.Service.Settings.AddHouseFile(ctx, who, in.Name, in.RawBody)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.HouseFile }{f}, nil
}

// houseRequest is a style that is being written, and the format in which it is to be shown.
type houseRequest struct {
	Style  job.HouseStyle `json:"style"`
	Format string         `json:"format"`
}

// mailFormat shows a mail.
const mailFormat = "mail"

// houseFrame answers a form of the console whose target is a frame with a sample in a style
// that is not yet saved, as frame does with a report.
func (s *server) houseFrame(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("X-Frame-Options", "SAMEORIGIN")
	h.Set("Content-Security-Policy", framePolicy)
	r.Body = http.MaxBytesReader(w, r.Body, maxBody)
	var in houseRequest
	if err := json.Unmarshal([]byte(r.PostFormValue("ask")), &in); err != nil {
		frameSays(w, http.StatusBadRequest, "What is to be shown cannot be read: "+err.Error())
		return
	}
	if err := s.Service.Settings.CheckHouse(r.Context(), job.HouseStyles{Styles: []job.HouseStyle{in.Style}}); err != nil {
		frameSays(w, http.StatusUnprocessableEntity, s.problem(err).Error())
		return
	}
	look, err := house.Make(r.Context(), in.Style, s.Store)
	if err != nil {
		frameSays(w, http.StatusUnprocessableEntity, s.problem(err).Error())
		return
	}
	s.showSample(w, r, in.Format, look)
}

func (s *server) showSample(w http.ResponseWriter, r *http.Request, name string, look *house.Look) {
	mail := name == mailFormat
	if mail {
		name = render.MailTable
	}
	format, err := render.ByName(name)
	if err != nil {
		frameSays(w, http.StatusUnprocessableEntity, "It cannot be shown: "+err.Error()+".")
		return
	}
	var file bytes.Buffer
	if _, err := render.Sample(&file, name, look, nil); err != nil {
		frameSays(w, http.StatusUnprocessableEntity, s.problem(err).Error())
		return
	}
	if mail {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		// a reader that left needs no answer
		_, _ = io.WriteString(w, deliver.Page(deliver.Letter{
			Subject: "A sample of the house style", Date: s.Now(), Plain: "Good morning,\n\nthis is how a mail looks.",
			Tables: []string{file.String()}, Footer: "Iron Bell, run 0000-1, due Mon 5 Jan 2026 06:15 UTC", House: look,
		}))
		return
	}
	s.showFile(w, r, job.Artifact{Name: "sample" + format.Ending, MediaType: format.MediaType}, bytes.NewReader(file.Bytes()))
}
