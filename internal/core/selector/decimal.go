package selector

import (
	"cmp"
	"strings"
)

// decimal is a number written in decimals, of any size and precision: zero, or
// 0.digits times ten to the power of exponent.
type decimal struct {
	negative bool
	digits   string // without zeros at either end; "" for zero
	exponent int
}

// parseDecimal reads a decimal literal such as 7, +7, .5, 7. or 1e3.
func parseDecimal(s string) (decimal, bool) {
	var d decimal
	if s != "" && (s[0] == '+' || s[0] == '-') {
		d.negative = s[0] == '-'
		s = s[1:]
	}
	mantissa, exponent, hasExponent := s, "", false
	if i := strings.IndexAny(s, "eE"); i >= 0 {
		mantissa, exponent, hasExponent = s[:i], s[i+1:], true
	}
	whole, fraction, _ := strings.Cut(mantissa, ".")
	digits := whole + fraction
	if digits == "" || !allDigits(digits) {
		return decimal{}, false
	}
	d.exponent = len(whole)
	if hasExponent {
		n, ok := parseExponent(exponent)
		if !ok {
			return decimal{}, false
		}
		d.exponent += n
	}
	significant := strings.TrimLeft(digits, "0")
	d.exponent -= len(digits) - len(significant)
	d.digits = strings.TrimRight(significant, "0")
	if d.digits == "" {
		return decimal{}, true
	}
	return d, true
}

// parseExponent reads a signed whole number. One too large to matter is cut.
func parseExponent(s string) (int, bool) {
	negative := strings.HasPrefix(s, "-")
	if negative || strings.HasPrefix(s, "+") {
		s = s[1:]
	}
	if s == "" || !allDigits(s) {
		return 0, false
	}
	n := 0
	for i := range len(s) {
		n = min(n*10+int(s[i]-'0'), 1<<40)
	}
	if negative {
		n = -n
	}
	return n, true
}

func allDigits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

// compare returns -1, 0 or +1 as d is less than, equal to or more than other.
func (d decimal) compare(other decimal) int {
	if order := cmp.Compare(d.sign(), other.sign()); order != 0 || d.digits == "" {
		return order
	}
	order := cmp.Compare(d.exponent, other.exponent)
	if order == 0 {
		order = strings.Compare(d.digits, other.digits)
	}
	if d.negative {
		return -order
	}
	return order
}

func (d decimal) sign() int {
	switch {
	case d.digits == "":
		return 0
	case d.negative:
		return -1
	}
	return 1
}
