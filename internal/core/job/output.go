package job

// Output is one file, or one for each section, that a report task makes.
type Output struct {
	Format    string       `json:"format" enum:"csv,tsv,json,jsonl,xlsx,pdf,html,html-mail,png,pptx" doc:"csv, tsv, json, jsonl and xlsx take any number of rows, pdf at most 20,000 (6,000 tagged), html 50,000, html-mail shows 5,000, png 200, pptx what 60 slides hold"`
	Name      string       `json:"name,omitempty" maxLength:"300" doc:"file name with moving parts; the report's name and the date when left out"`
	Folder    string       `json:"folder,omitempty" maxLength:"500" doc:"folder below the destination's, with moving parts and / between"`
	Sections  []Chosen     `json:"sections,omitempty" maxItems:"50" doc:"sections that it takes; all when left out"`
	Locale    string       `json:"locale,omitempty" maxLength:"20" doc:"how numbers, dates and words are written, such as de or en-GB; digits with a point and dates as 2026-11-23 when left out"`
	Zone      string       `json:"zone,omitempty" maxLength:"60" doc:"in which instants are written; the job's when left out"`
	Columns   []string     `json:"columns,omitempty" maxItems:"500" doc:"of csv, tsv, json, jsonl and of a spreadsheet of data alone: the names of the columns that it has, in this order; a section that lacks one fails the run with its name. All of them as the section has them when left out"`
	ForSystem bool         `json:"for_system,omitempty" doc:"another system reads it: heads are the names of columns, and what looks like a formula is left as it is"`
	DataOnly  bool         `json:"data_only,omitempty" doc:"of a spreadsheet: heads and rows alone, without titles, totals and charts"`
	Formulas  bool         `json:"formulas,omitempty" doc:"of a spreadsheet: its totals are formulas over their rows, which stand there with what they come to"`
	Workbook  string       `json:"workbook,omitempty" maxLength:"100" doc:"of a spreadsheet: workbook of the report that is filled, at most 100,000 rows; its sheets are made anew when left out"`
	Values    bool         `json:"values_only,omitempty" doc:"of a filled workbook: values in place of its formulas; a cell that is not reckoned here fails the run with its name"`
	Hidden    HiddenSheets `json:"hidden_sheets,omitempty" enum:"keep,remove" doc:"of a filled workbook; keep when left out"`
	Tagged    bool         `json:"tagged,omitempty" doc:"of a PDF: with structure for screen readers, where a browser is installed on the node"`
	Page      *Page        `json:"page,omitempty" doc:"of a PDF and of a printed HTML page"`
	Text      *TextForm    `json:"text,omitempty" doc:"of csv and tsv"`
}

// Page is the paper of an output.
type Page struct {
	Size      string `json:"size,omitempty" enum:"A3,A4,A5,letter,legal" doc:"A4 when left out"`
	Direction string `json:"direction,omitempty" enum:"upright,sideways" doc:"as each section needs when left out"`

	Wide     Wide `json:"wide,omitempty" enum:"smaller,parted" doc:"of a PDF, what becomes of a table that is too wide for the page also when that is turned: smaller letters, or its columns are parted over several tables, each with the columns that tell the rows apart; smaller when left out"`
	OnePage  bool `json:"one_page,omitempty" doc:"of a PDF: all of it on one page, in smaller letters where it takes them; what cannot be read then fails the run"`
	Grid     bool `json:"grid,omitempty" doc:"of one page: charts and tables that follow each other stand two beside each other, figures and texts across. Of slides: one slide of at most 8 figures, 4 charts and texts"`
	Contents bool `json:"contents,omitempty" doc:"of a PDF: a list of its sections with their pages before them"`
}

// Wide says what becomes of a table that is too wide for its page.
type Wide string

// TextForm says how a text file is written.
type TextForm struct {
	Delimiter string  `json:"delimiter,omitempty" maxLength:"1" doc:"one character; a comma when left out, a semicolon where the locale has a decimal comma, a tab in tsv"`
	Encoding  string  `json:"encoding,omitempty" maxLength:"30" doc:"utf-8, utf-8-mark (with a byte order mark), utf-16, windows-1250 to windows-1258, iso-8859-1 to iso-8859-16; utf-8 when left out"`
	Unfit     Unfit   `json:"unfit,omitempty" enum:"question mark,plain letter,fail" doc:"what becomes of a character that the encoding does not have; a question mark when left out"`
	LineEnd   LineEnd `json:"line_end,omitempty" enum:"crlf,lf" doc:"crlf when left out"`
	Quote     Quoting `json:"quote,omitempty" enum:"needed,all,none" doc:"which cells stand in quotes; needed when left out; none fails on a cell that needs them"`
	Numbers   Numbers `json:"numbers,omitempty" enum:"exact,as shown" doc:"exact: every digit of a number, with the decimal mark of the locale and nothing else; as shown: rounded, with units and percent signs, as people read them on pages; exact when left out"`
	NoHeader  bool    `json:"no_header,omitempty" doc:"without the line of heads"`
}

// Unfit says what becomes of a character that does not fit an encoding.
type Unfit string

// LineEnd is what ends a line.
type LineEnd string

// Quoting says which cells stand in quotes.
type Quoting string

// Numbers says how the numbers of a text file are written.
type Numbers string

// The choices; the first of each is its default.
const (
	WideSmaller Wide = "smaller"
	WideParted  Wide = "parted"

	NumbersExact Numbers = "exact"
	NumbersShown Numbers = "as shown"

	UnfitQuestion Unfit = "question mark"
	UnfitPlain    Unfit = "plain letter"
	UnfitFail     Unfit = "fail"

	EndCRLF LineEnd = "crlf"
	EndLF   LineEnd = "lf"

	QuoteNeeded Quoting = "needed"
	QuoteAll    Quoting = "all"
	QuoteNone   Quoting = "none"
)
