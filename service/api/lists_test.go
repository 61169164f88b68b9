package api_test

import (
	"encoding/json"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/queue"
)

// The lists of states, kinds and gates are the core's: what the API document says of
// them, from which the console has them, is held against it here.
func TestTheDocumentsListsAreTheCores(t *testing.T) {
	text, err := os.ReadFile("../../docs/openapi.json")
	require.NoError(t, err)
	var document any
	require.NoError(t, json.Unmarshal(text, &document))
	lists := map[string][]string{"waiting": words(queue.States), "network": words(gate.Names), "photo": words(media.Kinds)}
	found := map[string]int{}
	var look func(any)
	look = func(v any) {
		switch v := v.(type) {
		case []any:
			for _, one := range v {
				look(one)
			}
		case map[string]any:
			if enum, is := v["enum"].([]any); is {
				var list []string
				for _, one := range enum {
					word, _ := one.(string)
					list = append(list, word)
				}
				for first, want := range lists {
					if slices.Contains(list, first) {
						found[first]++
						if n := len(list) - 1; list[n] == queue.Unsafe { // a filter has one more
							list = list[:n]
						}
						assert.Equal(t, want, list)
					}
				}
			}
			for _, one := range v {
				look(one)
			}
		}
	}
	look(document)
	for first := range lists {
		assert.NotZero(t, found[first], first)
	}
}

func words[T ~string](list []T) []string {
	var all []string
	for _, one := range list {
		all = append(all, string(one))
	}
	return all
}
