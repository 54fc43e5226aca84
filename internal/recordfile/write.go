package recordfile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode"

	"go.yaml.in/yaml/v4"
)

// Write writes a record as a file: the head, then the fields of body, a JSON object, in
// their order. Reading it gives kind, name, revision and body again, value by value.
func Write(f File) ([]byte, error) {
	dec := json.NewDecoder(bytes.NewReader(f.Body))
	dec.UseNumber()
	body, err := nodeOf(dec)
	if err != nil {
		return nil, fmt.Errorf("write %s %q as a file: %w", f.Kind, f.Name, err)
	}
	top := &yaml.Node{Kind: yaml.MappingNode}
	head := func(name string, value *yaml.Node) { top.Content = append(top.Content, textNode(name), value) }
	head(formField, numberNode(strconv.Itoa(Form)))
	head(recordField, textNode(f.Kind+" "+f.Name))
	if f.Revision != nil {
		head(revisionField, numberNode(strconv.FormatInt(*f.Revision, 10)))
	}
	top.Content = append(top.Content, body.Content...)
	text, err := yaml.Dump(&yaml.Node{Kind: yaml.DocumentNode, Content: []*yaml.Node{top}}, yaml.WithV4Defaults(),
		yaml.WithLineWidth(-1))
	if err != nil {
		return nil, fmt.Errorf("write %s %q as a file: %w", f.Kind, f.Name, err)
	}
	return text, nil
}

// nodeOf reads the next value of a JSON text; the order of fields is kept.
func nodeOf(dec *json.Decoder) (*yaml.Node, error) {
	token, err := dec.Token()
	if err != nil {
		return nil, fmt.Errorf("read the record: %w", err)
	}
	switch v := token.(type) {
	case json.Delim:
		n := &yaml.Node{Kind: yaml.SequenceNode}
		if v == '{' {
			n.Kind = yaml.MappingNode
		}
		for dec.More() {
			item, err := nodeOf(dec)
			if err != nil {
				return nil, err
			}
			n.Content = append(n.Content, item)
		}
		if len(n.Content) == 0 {
			n.Style = yaml.FlowStyle // [] and {}
		}
		if _, err := dec.Token(); err != nil && err != io.EOF {
			return nil, fmt.Errorf("read the record: %w", err)
		}
		return n, nil
	case string:
		return textNode(v), nil
	case json.Number:
		return numberNode(v.String()), nil
	case bool:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: strconv.FormatBool(v)}, nil
	}
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!null", Value: "null"}, nil
}

func numberNode(text string) *yaml.Node {
	tag := "!!int"
	if strings.ContainsAny(text, ".eE") {
		tag = "!!float"
	}
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: tag, Value: text}
}

// Words that another YAML reads as yes or no (YAML 1.1).
var otherBools = map[string]bool{"y": true, "n": true, "yes": true, "no": true, "on": true, "off": true}

// Texts that another YAML reads as numbers of base 60 (YAML 1.1), such as 18:00.
var otherNumbers = regexp.MustCompile(`^[-+]?[0-9][0-9_]*(:[0-5]?[0-9])+(\.[0-9_]*)?$`)

// textNode writes a text: of several lines as it is, in quotes where it would be taken for
// something else, otherwise plain.
func textNode(text string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}
	switch k, doubt := plain(text); {
	case k != isText || doubt != "" || otherBools[strings.ToLower(text)] || otherNumbers.MatchString(text):
		n.Style = yaml.SingleQuotedStyle
	case strings.Contains(text, "\n"):
		n.Style = yaml.DoubleQuotedStyle
		if literal(text) {
			n.Style = yaml.LiteralStyle
		}
	case !printable(text):
		n.Style = yaml.DoubleQuotedStyle
	}
	return n
}

// literal tells whether a text of several lines can stand as it is.
func literal(text string) bool {
	first := strings.TrimLeft(text, "\n")
	return printable(strings.ReplaceAll(strings.ReplaceAll(text, "\n", ""), "\t", "")) && first != "" &&
		first[0] != ' ' && first[0] != '\t' && first == text
}

func printable(text string) bool {
	return strings.IndexFunc(text, func(r rune) bool { return !unicode.IsPrint(r) }) < 0
}
