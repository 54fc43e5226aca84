package recordfile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"
)

// Body is what a file says of a record: v as JSON, without the fields of its own that are as
// in otherwise, which is what a reader takes who finds them left out.
func Body(v, otherwise any) ([]byte, error) {
	all, err := fields(v)
	if err != nil {
		return nil, err
	}
	plain, err := fields(otherwise)
	if err != nil {
		return nil, err
	}
	as := make(map[string]string, len(plain))
	for _, f := range plain {
		as[f.name] = string(f.value)
	}
	var out bytes.Buffer
	out.WriteByte('{')
	for _, f := range all {
		if was, ok := as[f.name]; ok && was == string(f.value) {
			continue
		}
		if out.Len() > 1 {
			out.WriteByte(',')
		}
		out.Write(quoted(f.name))
		out.WriteByte(':')
		out.Write(f.value)
	}
	out.WriteByte('}')
	return out.Bytes(), nil
}

type field struct {
	name  string
	value json.RawMessage
}

// fields lists the fields of a value's JSON object in their order.
func fields(v any) ([]field, error) {
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return nil, fmt.Errorf("write what is said of the record: %w", err)
	}
	dec := json.NewDecoder(&text)
	if _, err := dec.Token(); err != nil {
		return nil, fmt.Errorf("read what is said of the record: %w", err)
	}
	var out []field
	for dec.More() {
		name, err := dec.Token()
		if err != nil {
			return nil, fmt.Errorf("read what is said of the record: %w", err)
		}
		f := field{name: fmt.Sprint(name)}
		if err := dec.Decode(&f.value); err != nil {
			return nil, fmt.Errorf("read what is said of the record: %w", err)
		}
		out = append(out, f)
	}
	return out, nil
}

// Change is a field that differs between two bodies. Was and Now are JSON texts; one is
// empty when there is no such field.
type Change struct{ Where, Was, Now string }

// Changes lists the fields that differ between two bodies: those of now in their order, then
// those that are gone.
func Changes(was, now []byte) ([]Change, error) {
	before, err := leaves(was)
	if err != nil {
		return nil, err
	}
	after, err := leaves(now)
	if err != nil {
		return nil, err
	}
	had := make(map[string]string, len(before))
	for _, f := range before {
		had[f.name] = string(f.value)
	}
	out := []Change{}
	has := make(map[string]bool, len(after))
	for _, f := range after {
		has[f.name] = true
		if old, ok := had[f.name]; !ok || old != string(f.value) {
			out = append(out, Change{f.name, old, string(f.value)})
		}
	}
	for _, f := range before {
		if !has[f.name] {
			out = append(out, Change{Where: f.name, Was: string(f.value)})
		}
	}
	return out, nil
}

// leaves lists the values of a body that hold no others, with their places.
func leaves(body []byte) ([]field, error) {
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.UseNumber()
	var out []field
	err := descend(dec, "", &out)
	return out, err
}

func descend(dec *json.Decoder, where string, out *[]field) error {
	token, err := dec.Token()
	if err != nil {
		return fmt.Errorf("read what is said of the record: %w", err)
	}
	delim, is := token.(json.Delim)
	if !is {
		var text bytes.Buffer
		enc := json.NewEncoder(&text)
		enc.SetEscapeHTML(false)
		if err := enc.Encode(token); err != nil {
			return fmt.Errorf("write what is said of the record: %w", err)
		}
		*out = append(*out, field{where, bytes.TrimSpace(text.Bytes())})
		return nil
	}
	n := 0
	for ; dec.More(); n++ {
		below := where + "[" + strconv.Itoa(n) + "]"
		if delim == '{' {
			name, err := dec.Token()
			if err != nil {
				return fmt.Errorf("read what is said of the record: %w", err)
			}
			below = fmt.Sprint(name)
			if where != "" {
				below = where + "." + below
			}
		}
		if err := descend(dec, below, out); err != nil {
			return err
		}
	}
	if n == 0 && where != "" {
		*out = append(*out, field{where, json.RawMessage(map[json.Delim]string{'{': "{}", '[': "[]"}[delim])})
	}
	if _, err := dec.Token(); err != nil {
		return fmt.Errorf("read what is said of the record: %w", err)
	}
	return nil
}
