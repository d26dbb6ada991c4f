// Package nearest finds the known words that a mistyped one may have meant.
package nearest

import (
	"slices"
	"strings"
)

// Word returns the one of known that word is most likely a misspelling of, or
// "" if none is near. Case does not count. Among equally near words the first
// wins; a former word means the one that took its place.
func Word(word string, known []string) string {
	if now, ok := former[strings.ToLower(word)]; ok && slices.Contains(known, now) {
		return now
	}
	if found := Words(word, slices.Values(known), 1); len(found) > 0 {
		return found[0]
	}
	return ""
}

// former are former words, with those that took their place.
var former = map[string]string{"tell-held": "notify-sender"}

// Hint returns what to add to a message about a mistyped word: "; did you mean X?",
// or "" if none of known is near.
func Hint(word string, known []string) string {
	if near := Word(word, known); near != "" {
		return "; did you mean " + near + "?"
	}
	return ""
}

// mostEdits is how far a known word is from a mistyped one at most.
const mostEdits = 2

// Words returns at most n of known that word may have meant, the nearest first
// and otherwise in the order of known. Each is at most two edits away, and one where the
// word has less than four letters. Of addresses in the same domain (RFC 5321) the local
// parts are compared.
func Words(word string, known func(yield func(string) bool), n int) []string {
	type candidate struct {
		word     string
		distance int
	}
	var found []candidate
	folded := strings.ToLower(word)
	if len(folded) > 200 {
		return nil
	}
	local, domain, _ := strings.Cut(folded, "@")
	for k := range known {
		if difference := len(k) - len(folded); difference > mostEdits || -difference > mostEdits {
			continue
		}
		typed, meant := folded, strings.ToLower(k)
		if sameLocal, sameDomain, ok := strings.Cut(meant, "@"); ok && sameDomain == domain {
			typed, meant = local, sameLocal
		}
		limit := min(len(typed)/2, mostEdits)
		if d := distance(typed, meant, limit); d <= limit {
			found = append(found, candidate{k, d})
		}
	}
	slices.SortStableFunc(found, func(a, b candidate) int { return a.distance - b.distance })
	var words []string
	for _, c := range found[:min(n, len(found))] {
		words = append(words, c.word)
	}
	return words
}

// distance counts the insertions, deletions, replacements and swaps of
// neighbouring bytes that lead from a to b. It gives up with a number above
// limit once no shorter way is left.
func distance(a, b string, limit int) int {
	width := len(b) + 1
	before, last, row := make([]int, width), make([]int, width), make([]int, width)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		best := i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
			best = min(best, row[j])
		}
		if best > limit {
			return best
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}

// Distance returns how many insertions, deletions, replacements and swaps of
// neighbouring bytes lead from a to b, or a number above 4 where it is more.
func Distance(a, b string) int { return distance(a, b, 4) }
