package selector

import (
	"errors"
	"strings"
	"testing"
)

// person is somebody for the tests of filters.
var person = map[string][]string{
	"base":  {"North-Pier"},
	"post":  {"skipper", "trainer"},
	"years": {"7"},
	"note":  {"a(b)*c\\d"},
	"empty": {""},
	"code":  {"10000000000000002"},
	"greek": {"ΣΊΣΥΦΟΣ"},
}

func TestFilters(t *testing.T) {
	for _, c := range []struct {
		filter string
		want   bool
	}{
		{"(base=north-pier)", true},
		{"(BASE=NORTH-PIER)", true},
		{"(base=north)", false},
		{"(post=trainer)", true}, // any value will do
		{"(post=cook)", false},
		{"(rank=*)", false},
		{"(rank=captain)", false},
		{"(!(rank=captain))", true}, // absent: the comparison is false
		{"(rank>=0)", false},
		{"(base=*)", true},
		{"(empty=*)", true},
		{"(empty=)", true},
		{"(base=)", false},
		{"(base=n*)", true},
		{"(base=*pier)", true},
		{"(base=*th*pi*)", true},
		{"(base=south*pier)", false},
		{"(base=north*quay)", false},
		{"(base=*quay)", false},
		{"(base=quay*)", false},
		{"(base=n*p*r)", true},
		{"(base=north*north-pier)", false}, // the pieces do not overlap
		{"(base=*-*-*)", false},
		{"(base=**)", true},
		{"(note=a\\28b\\29\\2ac\\5cd)", true},
		{"(note=*\\2a*)", true},
		{"(base=*\\2a*)", false},
		{"(&(base=north-pier)(post=skipper))", true},
		{"(&(base=north-pier)(post=cook))", false},
		{"(|(base=x)(post=skipper))", true},
		{"(|(base=x))", false},
		{"(!(!(base=north-pier)))", true},
		{"(years>=7)", true},
		{"(years>=7.5)", false},
		{"(years<=7.)", true},
		{"(years>=+7)", true},
		{"(years>=.5)", true},
		{"(years<=1e3)", true},
		{"(years>=-8)", true},
		{"(years>=10)", false}, // as numbers: as text it would be true
		{"(years=7.0)", false}, // = compares text
		{"(years>=0x1)", true}, // no number: text
		{"(base>=n)", true},
		{"(base<=NORTH-PIER)", true},
		{"(base>=o)", false},
		{"(code>=10000000000000003)", false}, // exact, beyond what a float holds
		{"(code<=10000000000000001)", false},
		{"(greek=σίσυφος)", true},
	} {
		f, err := ParseFilter(c.filter)
		if err != nil {
			t.Errorf("ParseFilter(%q): %v", c.filter, err)
			continue
		}
		matches := func(f Filter) bool {
			return MatchFilter(f, func(item *Item) bool {
				for _, value := range person[item.Attribute] {
					if item.Matches(value) {
						return true
					}
				}
				return false
			})
		}
		if got := matches(f); got != c.want {
			t.Errorf("%s is %t, want %t", c.filter, got, c.want)
		}
		again, err := ParseFilter(f.String())
		if err != nil || again.String() != f.String() || matches(again) != c.want {
			t.Errorf("%s is printed as %s, which parses to %v, %v", c.filter, f, again, err)
		}
	}
}

// The place of each error is marked by § in the input.
func TestFilterErrors(t *testing.T) {
	for _, c := range []struct{ in, reason string }{
		{"§", "expected a filter"},
		{"§base=x", "expected a filter"},
		{"§(base=x", "never closed"},
		{"(§)", "name of an attribute"},
		{"(§=x)", "name of an attribute"},
		{"(base§)", "expected =, >= or <="},
		{"(base§ =x)", "expected =, >= or <="},
		{"(base§~=x)", "not supported"},
		{"(base§:=x)", "not supported"},
		{"(base§:dn:=x)", "not supported"},
		{"(base§<x)", "expected =, >= or <="},
		{"(§&)", "at least one filter"},
		{"(§|)", "at least one filter"},
		{"(!§)", "expected a filter"},
		{"(&(a=b)§ (c=d))", `expected ")"`},
		{"(!(a=b)§(c=d))", `expected ")"`},
		{"(a=§(b)", "has to be escaped"},
		{"(a=b§\x00c)", "has to be escaped"},
		{"(a=§\\zz)", "two hexadecimal digits"},
		{"(a=§\\4)", "two hexadecimal digits"},
		{"(a=§\\4", "two hexadecimal digits"},
		{"(a=§\\", "two hexadecimal digits"},
		{"(a>=7§*)", "a star can follow"},
		{"(a=§\\ff)", "not valid UTF-8"},
		{"(a=b)§x", "expected the end"},
		{"(a=b)§)", "expected the end"},
	} {
		in := strings.Replace(c.in, "§", "", 1)
		_, err := ParseFilter(in)
		var bad *SyntaxError
		if !errors.As(err, &bad) {
			t.Errorf("ParseFilter(%q) = %v, want a SyntaxError", in, err)
			continue
		}
		if want := strings.Index(c.in, "§"); bad.Offset != want || !strings.Contains(bad.Reason, c.reason) {
			t.Errorf("ParseFilter(%q) = %q at %d, want %q at %d", in, bad.Reason, bad.Offset, c.reason, want)
		}
	}
}

func TestItems(t *testing.T) {
	f, err := ParseFilter("(&(a=1)(|(b=2)(!(c=3))))")
	if err != nil {
		t.Fatal(err)
	}
	var seen []string
	Items(f, func(item *Item) { seen = append(seen, item.Attribute) })
	if got := strings.Join(seen, ""); got != "abc" {
		t.Errorf("the items are %s, want abc", got)
	}
}

func TestDecimals(t *testing.T) {
	ordered := []string{
		"-1e400", "-10", "-9.5", "-1", "-.5", "-1e-9999999999999999999", "0", "1e-400", ".5", "7", "7.0001", "1e1",
		"99", "100.5", "1e400", "1e99999999999999999999",
	}
	for i, a := range ordered {
		for j, b := range ordered {
			x, ok1 := parseDecimal(a)
			y, ok2 := parseDecimal(b)
			if got := x.compare(y); !ok1 || !ok2 || (got < 0) != (i < j) || (got > 0) != (i > j) {
				t.Errorf("%s compared with %s is %d", a, b, got)
			}
		}
	}
	for _, same := range [][2]string{{"0", "-0"}, {"7", "+7.0"}, {"1e3", "1000"}, {"0.05", "5e-2"}, {"007", "7"}} {
		x, _ := parseDecimal(same[0])
		y, _ := parseDecimal(same[1])
		if x.compare(y) != 0 {
			t.Errorf("%s and %s differ", same[0], same[1])
		}
	}
	for _, bad := range []string{"", "+", ".", "e3", "1e", "1e+", "1_000", "0x7", "inf", "nan", "1 ", "1.2.3", "--1", "٣"} {
		if _, ok := parseDecimal(bad); ok {
			t.Errorf("%q is taken for a number", bad)
		}
	}
}

func TestFold(t *testing.T) {
	for _, pair := range [][2]string{{"Ab", "aB"}, {"ΣΣ", "ςσ"}, {"K", "k"}, {"ÄÖ", "äö"}, {"straße", "STRAßE"}} {
		if Fold(pair[0]) != Fold(pair[1]) {
			t.Errorf("%q folds to %q and %q to %q", pair[0], Fold(pair[0]), pair[1], Fold(pair[1]))
		}
	}
	if Fold("a_B") != "a_b" || Fold("İ") == Fold("i") {
		t.Errorf("a_B folds to %q, İ to %q", Fold("a_B"), Fold("İ"))
	}
}

func FuzzParseFilter(f *testing.F) {
	for _, seed := range []string{"(a=b)", "(&(a=b*c)(|(d>=7)(!(e=*))))", `(a=\28\2a)`, "(a<=1e3)", "((", "(a=**)"} {
		f.Add(seed, "b xyz c")
	}
	f.Fuzz(func(t *testing.T, text, value string) {
		filter, err := ParseFilter(text)
		if err != nil {
			var bad *SyntaxError
			if !errors.As(err, &bad) || bad.Offset < 0 || bad.Offset > len(text) {
				t.Fatalf("%q: %#v", text, err)
			}
			return
		}
		again, err := ParseFilter(filter.String())
		if err != nil || again.String() != filter.String() {
			t.Fatalf("%q is printed as %q, which parses to %v, %v", text, filter, again, err)
		}
		all := func(item *Item) bool { return item.Matches(value) }
		if MatchFilter(filter, all) != MatchFilter(again, all) {
			t.Fatalf("%q and %q differ for %q", text, filter, value)
		}
	})
}
