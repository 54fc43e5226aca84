package deliver

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
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
			Name: name, Title: p.title, Takes: string(p.kind), Password: p.secret,
			Settings: job.DescribeSettings(p.settings),
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
	for _, s := range job.DescribeSettings(settings) {
		names = append(names, s.Name)
	}
	return names
}
