package job

import "ironbell/internal/core/rows"

// Preview is the first rows of a report, as they would look.
type Preview struct {
	Title    string           `json:"title"`
	ReadAs   string           `json:"read_as" doc:"login and source"`
	Values   []Bound          `json:"values"`
	Sections []PreviewSection `json:"sections"`
}

// PreviewSection is the first rows of a section.
type PreviewSection struct {
	Section string          `json:"section"`
	Title   string          `json:"title"`
	Kind    SectionKind     `json:"kind"`
	Text    string          `json:"text,omitempty" doc:"of a text"`
	Columns []PreviewColumn `json:"columns"`
	Lines   []PreviewLine   `json:"lines"`
	More    bool            `json:"more,omitempty" doc:"there are more rows than are shown"`
	TookMS  int64           `json:"took_ms" doc:"time until these rows were there"`
	Drawing string          `json:"drawing,omitempty" doc:"SVG of a chart"`
	Figures []PreviewFigure `json:"figures,omitempty" doc:"of a section of figures"`
}

// PreviewFigure is one large number with its change.
type PreviewFigure struct {
	Label  string `json:"label"`
	Text   string `json:"text"`
	Change string `json:"change,omitempty"`
	Mark   Mark   `json:"mark,omitempty" enum:"good,warning,bad,strong,faint"`
}

// PreviewColumn is the head of a column.
type PreviewColumn struct {
	Name string    `json:"name"`
	Head string    `json:"head,omitempty"`
	Kind rows.Kind `json:"kind"`
}

// PreviewLine is one line as people read it.
type PreviewLine struct {
	Cells []string `json:"cells"`
	Marks []Mark   `json:"marks,omitempty"`
	Total bool     `json:"total,omitempty" doc:"it is a subtotal or a total"`
}

// Offered is a parameter with the choices that there are.
type Offered struct {
	Parameter
	Offers  []Choice `json:"offers,omitempty" doc:"the choices that there are, with the values before it"`
	Bound   *Bound   `json:"bound,omitempty" doc:"its value as it stands"`
	Trouble string   `json:"trouble,omitempty" doc:"what is wrong with its value"`
}

// Described is what a section's query gives.
type Described struct {
	Section string          `json:"section"`
	Form    Form            `json:"form,omitempty"`
	Columns []PreviewColumn `json:"columns"`
}
