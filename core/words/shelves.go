package words

import (
	"fmt"
	"strings"

	"yardtide/core/plan"
)

// Beside tells how it stands with one sort of what is put beside the copies: "312 previews
// there, 12 wait."
func Beside(on plan.Shelf, there, waiting, stuck int64) string {
	many := func(n int64) string {
		if n == 1 {
			return strings.Replace(on.Label(), "a ", "1 ", 1)
		}
		return fmt.Sprintf("%d %s", n, on.Plural())
	}
	var said []string
	if there > 0 {
		said = append(said, many(there)+" there")
	}
	if waiting > 0 {
		said = append(said, map[bool]string{true: many(waiting), false: fmt.Sprint(waiting)}[there == 0]+" to go")
	}
	if stuck > 0 {
		said = append(said, map[bool]string{true: many(stuck), false: fmt.Sprint(stuck)}[there+waiting == 0]+" stuck")
	}
	return strings.Join(said, ", ") + "."
}
