package deliver

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"

	"ironbell/internal/core/job"
)

// Settings of a protocol are fields of a struct, whose tags describe them: doc in
// words, enum the choices, form how they are written when the type does not say it,
// and few marks what few need.

// Describe tells what the settings of each protocol are, by their names.
func Describe() []job.Protocol {
	out := make([]job.Protocol, 0, len(protocols))
	for _, name := range Protocols() {
		p := protocols[name]
		d := job.Protocol{
			Name: name, Title: p.title, Takes: string(p.kind), Password: p.secret, Settings: []job.Setting{},
		}
		for _, f := range fields(p.settings) {
			d.Settings = append(d.Settings, setting(f))
		}
		out = append(out, d)
	}
	return out
}

func password(doc string) *job.Setting {
	return &job.Setting{Name: "password", Form: job.SettingText, Doc: doc}
}

func key(doc string) *job.Setting {
	return &job.Setting{Name: "password", Form: job.SettingBlock, Doc: doc}
}

func setting(f reflect.StructField) job.Setting {
	name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
	s := job.Setting{
		Name: name, Doc: f.Tag.Get("doc"), Needed: !strings.Contains(options, "omitempty"),
		Further: f.Tag.Get("few") != "", Form: job.SettingText,
	}
	switch form, choices := f.Tag.Get("form"), f.Tag.Get("enum"); {
	case form != "":
		s.Form = job.SettingForm(form)
	case choices != "":
		s.Form, s.Choices = job.SettingChoice, strings.Split(choices, ",")
	case f.Type.Kind() == reflect.Slice:
		s.Form = job.SettingList
	case f.Type.Kind() == reflect.Map:
		s.Form = job.SettingPairs
	case f.Type.Kind() != reflect.String:
		s.Form = job.SettingNumber
	}
	return s
}

// checkSettings tells what is wrong with the form of settings: names that the
// protocol does not know, and values of another type. Those that were kept by an
// earlier version are read without it.
func checkSettings(protocol string, settings json.RawMessage) error {
	way, ok := protocols[protocol]
	if !ok {
		return nil // Open says so
	}
	into := json.NewDecoder(bytes.NewReader(settings))
	into.DisallowUnknownFields()
	err := into.Decode(reflect.New(reflect.TypeOf(way.settings)).Interface())
	var kind *json.UnmarshalTypeError
	switch {
	case err == nil, errors.Is(err, io.EOF):
		return nil
	case errors.As(err, &kind):
		return fmt.Errorf("the setting %s takes no %s", kind.Field, kind.Value)
	}
	if name, ok := strings.CutPrefix(err.Error(), "json: unknown field "); ok {
		return fmt.Errorf("%s has no setting %s; there are %s", protocol, name,
			strings.Join(settingNames(way.settings), ", "))
	}
	return fmt.Errorf("the settings cannot be read: %w", err)
}

func settingNames(settings any) []string {
	var names []string
	for _, f := range fields(settings) {
		names = append(names, setting(f).Name)
	}
	return names
}

// fields are the fields of settings, with those that several protocols have alike.
func fields(settings any) []reflect.StructField {
	return slices.DeleteFunc(reflect.VisibleFields(reflect.TypeOf(settings)),
		func(f reflect.StructField) bool { return f.Anonymous })
}
