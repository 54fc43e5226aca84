package job

import (
	"reflect"
	"slices"
	"strings"
	"time"
)

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
	Form    SettingForm `json:"form" enum:"text,block,number,choice,list,pairs,yes/no,tables" doc:"block is text of several lines; list a list of texts; pairs names with a text each; tables names with a file each and how it is read"`
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
	SettingYesNo  SettingForm = "yes/no"
	SettingTables SettingForm = "tables"
)

// Driver is one way to read data, with what its sources are told.
type Driver struct {
	Name     string    `json:"name" doc:"such as postgres"`
	Title    string    `json:"title" doc:"for people"`
	Note     string    `json:"note,omitempty" doc:"what should be known of it"`
	Password *Setting  `json:"password,omitempty" doc:"what the password of a source is; it takes none when left out"`
	Settings []Setting `json:"settings"`
}

// DescribeSettings tells what the fields of a struct of settings are, by the tags of its
// fields: json names one and says whether it may be left out, doc says what it is, enum lists
// its choices, form says how it is written where its type does not, few marks what few need.
func DescribeSettings(settings any) []Setting {
	out := []Setting{}
	for _, f := range slices.DeleteFunc(reflect.VisibleFields(reflect.TypeOf(settings)),
		func(f reflect.StructField) bool { return f.Anonymous }) {
		out = append(out, describeSetting(f))
	}
	return out
}

func describeSetting(f reflect.StructField) Setting {
	name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
	s := Setting{
		Name: name, Doc: f.Tag.Get("doc"), Needed: !strings.Contains(options, "omitempty"),
		Further: f.Tag.Get("few") != "", Form: SettingText,
	}
	switch form, choices := f.Tag.Get("form"), f.Tag.Get("enum"); {
	case form != "":
		s.Form = SettingForm(form)
	case choices != "":
		s.Form, s.Choices = SettingChoice, strings.Split(choices, ",")
	case f.Type.Kind() == reflect.Slice:
		s.Form = SettingList
	case f.Type.Kind() == reflect.Map:
		s.Form = SettingPairs
	case f.Type.Kind() == reflect.Bool:
		s.Form = SettingYesNo
	case f.Type == reflect.TypeFor[Duration](), f.Type == reflect.TypeFor[time.Duration]():
	case f.Type.Kind() != reflect.String:
		s.Form = SettingNumber
	}
	return s
}
