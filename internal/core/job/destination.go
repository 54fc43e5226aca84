package job

// Protocol is one way to hand results over, with what its destinations are told.
type Protocol struct {
	Name     string    `json:"name" doc:"such as sftp"`
	Title    string    `json:"title" doc:"for people"`
	Takes    string    `json:"takes" enum:"mail,files"`
	Password *Setting  `json:"password,omitempty" doc:"what the password of a destination is; it takes none when left out"`
	Settings []Setting `json:"settings"`
}

// Setting is one setting of the destinations of a protocol.
type Setting struct {
	Name    string      `json:"name"`
	Form    SettingForm `json:"form" enum:"text,block,number,choice,list,pairs" doc:"block is text of several lines; list a list of texts; pairs names with a text each"`
	Doc     string      `json:"doc"`
	Choices []string    `json:"choices,omitempty"`
	Needed  bool        `json:"needed,omitempty" doc:"it cannot be left out"`
	Further bool        `json:"further,omitempty" doc:"few need it"`
}

// SettingForm is how a setting is written.
type SettingForm string

// The forms.
const (
	SettingText   SettingForm = "text"
	SettingBlock  SettingForm = "block"
	SettingNumber SettingForm = "number"
	SettingChoice SettingForm = "choice"
	SettingList   SettingForm = "list"
	SettingPairs  SettingForm = "pairs"
)
