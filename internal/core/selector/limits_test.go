package selector

import (
	"errors"
	"strings"
	"testing"
)

// The deepest nesting that is read is that of maxDepth, and no deeper.
func TestDeepest(t *testing.T) {
	for _, c := range []struct {
		name string
		read func(depth int) error
	}{
		{"parentheses", func(n int) error {
			_, err := Parse(strings.Repeat("(", n)+"anyone"+strings.Repeat(")", n), ForPeople)
			return err
		}},
		{"not", func(n int) error { _, err := Parse(strings.Repeat("not ", n)+"anyone", ForPeople); return err }},
		{"a rule", func(n int) error {
			_, err := ParseRule("admit "+strings.Repeat("not ", n)+"anyone", []string{"admit"}, ForMessages)
			return err
		}},
		{"filters", func(n int) error {
			_, err := ParseFilter(strings.Repeat("(!", n) + "(a=b)" + strings.Repeat(")", n))
			return err
		}},
		{"lists of filters", func(n int) error {
			_, err := ParseFilter(strings.Repeat("(&", n) + "(a=b)" + strings.Repeat(")", n))
			return err
		}},
	} {
		if err := c.read(maxDepth); err != nil {
			t.Errorf("%s, %d deep: %v", c.name, maxDepth, err)
		}
		var bad *SyntaxError
		if err := c.read(maxDepth + 1); !errors.As(err, &bad) || !strings.Contains(bad.Reason, "nested deeper than 500") {
			t.Errorf("%s, %d deep: %v", c.name, maxDepth+1, err)
		}
	}
}

// Sizes are those of a 64-bit number of octets, with room to spare.
func TestSizes(t *testing.T) {
	for text, want := range map[string]int64{"0": 0, "7": 7, "7B": 7, "7 kB": 7e3, "2MB": 2e6, "3GB": 3e9, "4611686018427387904": 1 << 62} {
		if got, err := ParseSize(text); got != want || err != nil {
			t.Errorf("%q is %d, %v; want %d", text, got, err, want)
		}
	}
	for text, want := range map[string]string{
		"4611686018427387905": "too large", "9223372036854775807": "too large", "9223372036854775808": "too large", "4611686019GB": "too large",
		"99999999999999999999999": "too large", "x": "expected a size", "": "expected a size", "-1": "expected a size", "7KB": "unknown unit", "7GiB": "unknown unit",
	} {
		if got, err := ParseSize(text); err == nil || !strings.Contains(err.Error(), want) || got != 0 {
			t.Errorf("%q is %d, %v; want %q", text, got, err, want)
		}
	}
}

// An operator of filters without any is named alone.
func TestEmptyList(t *testing.T) {
	for _, text := range []string{"(&)", "(|)", "(&x)"} {
		_, err := ParseFilter(text)
		var bad *SyntaxError
		if !errors.As(err, &bad) || bad.Offset != 1 || !strings.HasSuffix(bad.Reason, "after "+`"`+text[1:2]+`"`) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// Decimals compare as numbers, whatever they look like.
func TestDecimalsAtTheirEdges(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"0e3", "0", 0}, {"e3", "0", 2}, {"1e0", "1", 0}, {"1e-1", "0.1", 0}, {"10e-1", "1", 0}, {"1e1", "10", 0}, {"12e+2", "1200", 0},
		{"1e99999999999999999999", "1e99999999999999999998", 0}, {"1e-99999999999999999999", "1", -1}, {"1e5", "99999", 1}, {"-1e5", "1", -1},
		{"1E2", "100", 0}, {"1e", "1", 2}, {"1e+", "1", 2}, {"1ex", "1", 2}, {".e1", "1", 2},
	} {
		a, ok := parseDecimal(c.a)
		b, _ := parseDecimal(c.b)
		if ok != (c.want != 2) {
			t.Errorf("%s is a number: %v", c.a, ok)
		} else if ok && a.compare(b) != c.want {
			t.Errorf("%s and %s compare as %d, want %d", c.a, c.b, a.compare(b), c.want)
		}
	}
}
