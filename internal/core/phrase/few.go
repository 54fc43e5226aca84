package phrase

import (
	"fmt"
	"strings"
)

// Few lists the first of many.
func Few(all []string) string {
	const shown = 20
	text := strings.Join(all[:min(len(all), shown)], ", ")
	if len(all) > shown {
		text += fmt.Sprintf(" and %d more", len(all)-shown)
	}
	return text
}
