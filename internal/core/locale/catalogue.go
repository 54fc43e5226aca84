package locale

import (
	"embed"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/leonelquinteros/gotext"
)

// shipped are the catalogues that come with the product: PO files (GNU gettext)
// named by their language, and messages.pot with all texts that there are.
//
//go:embed catalogue/*
var shipped embed.FS

// catalogues are the texts by language. What an operator adds stands before what
// was shipped.
var catalogues = struct {
	sync.RWMutex
	known map[string]map[string]string
}{known: map[string]map[string]string{}}

// Messages are the English texts of the product that can be translated.
var Messages = sync.OnceValue(func() []string {
	data, err := shipped.ReadFile("catalogue/messages.pot")
	if err != nil {
		panic(err)
	}
	var all []string
	for text := range read(data) {
		all = append(all, text)
	}
	slices.Sort(all)
	return all
})

func init() {
	names, err := fs.Glob(shipped, "catalogue/*.po")
	if err != nil {
		panic(err)
	}
	for _, name := range names {
		data, err := shipped.ReadFile(name)
		if err != nil {
			panic(err)
		}
		language := strings.TrimSuffix(strings.TrimPrefix(name, "catalogue/"), ".po")
		if err := Add(language, data); err != nil {
			panic(err)
		}
	}
}

// read reads the texts of a PO file with their translations.
func read(po []byte) map[string]string {
	p := gotext.NewPo()
	p.Parse(po)
	out := map[string]string{}
	for id, t := range p.GetDomain().GetTranslations() {
		if id != "" {
			out[id] = t.Trs[0]
		}
	}
	return out
}

// MaxCatalogue is how many bytes a catalogue has at most.
const MaxCatalogue = 1 << 20

var verb = regexp.MustCompile(`%[-+# 0-9.]*[a-zA-Z%]`)

// Add adds a catalogue in a language (BCP 47): texts that it lacks stay as they
// are. The error names a text that the product does not have, or whose
// translation has other places for values, such as %s, than the text.
func Add(language string, po []byte) error {
	if !slices.Contains(Names(), language) {
		return fmt.Errorf("there is no language %q; there are %s", language, strings.Join(Names(), ", "))
	}
	if len(po) > MaxCatalogue {
		return fmt.Errorf("it has %d bytes; a catalogue has at most %d", len(po), MaxCatalogue)
	}
	all := read(po)
	if len(all) == 0 {
		return fmt.Errorf("it has no texts; a catalogue is a PO file with msgid and msgstr")
	}
	for text, said := range all {
		if !slices.Contains(Messages(), text) {
			return fmt.Errorf("there is no text %q to translate", text)
		}
		if want, got := verb.FindAllString(text, -1), verb.FindAllString(said, -1); said != "" && !slices.Equal(want, got) {
			return fmt.Errorf("the translation of %q has the places %s in place of %s, in their order", text,
				strings.Join(got, " "), strings.Join(want, " "))
		}
	}
	catalogues.Lock()
	defer catalogues.Unlock()
	known := catalogues.known[language]
	if known == nil {
		known = map[string]string{}
		catalogues.known[language] = known
	}
	for text, said := range all {
		if said != "" {
			known[text] = said
		}
	}
	return nil
}

// Say writes a text of the product in the language, with values at its places as
// fmt has them. What no catalogue has stands in English. A nil Locale is English.
func (l *Locale) Say(text string, values ...any) string {
	said := text
	if l != nil && l.Name != "" {
		whole, _, _ := strings.Cut(l.Name, "-")
		catalogues.RLock()
		for _, language := range []string{whole, l.Name} { // what is said for a country stands before
			if s, ok := catalogues.known[language][text]; ok {
				said = s
			}
		}
		catalogues.RUnlock()
	}
	if len(values) == 0 {
		return said
	}
	return fmt.Sprintf(said, values...)
}

// English tells whether texts of the product stand in English.
func (l *Locale) English() bool {
	if l == nil || l.Name == "" {
		return true
	}
	whole, _, _ := strings.Cut(l.Name, "-")
	return whole == "en"
}
