package recordfile

import (
	"bytes"
	"fmt"

	"go.yaml.in/yaml/v4"
)

// Files go into version control, and passwords do not. They stand in a file of their own,
// which is read where the records are saved.

// ReadPasswords reads a file of passwords: YAML with a field for each record, such as
//
//	destination company mail: "…"
func ReadPasswords(text []byte) (map[string]string, error) {
	out := map[string]string{}
	if len(text) > MaxBytes {
		return nil, fmt.Errorf("the file of passwords is larger than %d bytes", MaxBytes)
	}
	// What is wrong is told without the text that stands there.
	if err := yaml.Load(text, &out); err != nil {
		return nil, fmt.Errorf(`the file of passwords cannot be read: write each as "KIND NAME": "PASSWORD"`)
	}
	return out, nil
}

// WithPassword adds a password to the text of a file; its other lines stay where they are.
func WithPassword(text []byte, password string) []byte {
	out := bytes.TrimRight(bytes.Clone(text), "\n")
	return append(append(append(out, "\npassword: "...), quoted(password)...), '\n')
}
