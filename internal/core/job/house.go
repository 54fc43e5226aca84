package job

// HouseStyle is how what leaves the house looks: its logo, colours, typefaces and
// what stands at the foot. What is left out stays as the service has it.
type HouseStyle struct {
	Name     string   `json:"name" minLength:"1" maxLength:"60" doc:"by which reports choose it"`
	Logo     string   `json:"logo,omitempty" pattern:"^[0-9a-f]{64}$" doc:"number of an uploaded picture"`
	Accent   string   `json:"accent,omitempty" doc:"colour of rules and of the first series, such as #14507a"`
	Ink      string   `json:"ink,omitempty" doc:"colour of letters"`
	Series   []string `json:"series,omitempty" maxItems:"12" doc:"colours of the series of charts, in their order; the service's own follow them"`
	Typeface string   `json:"typeface,omitempty" maxLength:"60" doc:"name of a typeface that readers have, for pages of HTML, mails, sheets and slides, such as Georgia"`
	Regular  string   `json:"regular,omitempty" pattern:"^[0-9a-f]{64}$" doc:"number of an uploaded typeface, for PDF and pictures"`
	Bold     string   `json:"bold,omitempty" pattern:"^[0-9a-f]{64}$" doc:"number of its bold form"`
	Footer   string   `json:"footer,omitempty" maxLength:"200" doc:"line at the foot of every page, sheet, slide and mail"`
	Legal    string   `json:"legal,omitempty" maxLength:"500" doc:"small print below it"`
}

// Files are the numbers of the uploaded files that a style is made of.
func (h HouseStyle) Files() (all []string) {
	for _, id := range []string{h.Logo, h.Regular, h.Bold} {
		if id != "" {
			all = append(all, id)
		}
	}
	return all
}

// HouseStyles are the styles of a house. The first is that of all reports which
// choose none, and of the service's own mails.
type HouseStyles struct {
	Styles []HouseStyle `json:"styles" maxItems:"20"`
}

// HouseRecord are the styles of a house as they stand in a file of their own, with
// the files that they are made of where these are small enough to stand there.
type HouseRecord struct {
	HouseStyles

	Files []HouseData `json:"files,omitempty" maxItems:"60" doc:"that the styles name by their id; larger ones are uploaded by themselves"`
}

// HouseData is a file of a house style with its bytes.
type HouseData struct {
	ID   string `json:"id" pattern:"^[0-9a-f]{64}$"`
	Name string `json:"name" minLength:"1" maxLength:"200" doc:"of the file that was sent"`
	Data []byte `json:"data" doc:"its bytes, in base64"`
}

// Find finds a style by its name; the first for the empty name.
func (h HouseStyles) Find(name string) (HouseStyle, bool) {
	for _, s := range h.Styles {
		if name == "" || s.Name == name {
			return s, true
		}
	}
	return HouseStyle{}, false
}

// HouseFile is an uploaded file of a house style.
type HouseFile struct {
	ID      string `json:"id" db:"id" doc:"number: the SHA-256 of what is kept"`
	Kind    string `json:"kind" db:"kind" enum:"logo,typeface"`
	Name    string `json:"name" db:"name" doc:"of the file that was sent"`
	Width   int    `json:"width,omitempty" db:"width" doc:"of a logo, in dots"`
	Height  int    `json:"height,omitempty" db:"height" doc:"of a logo, in dots"`
	Family  string `json:"family,omitempty" db:"family" doc:"of a typeface"`
	Bold    bool   `json:"bold,omitempty" db:"bold" doc:"the typeface is bold"`
	Letters int    `json:"letters,omitempty" db:"letters" doc:"that the typeface has"`
}
