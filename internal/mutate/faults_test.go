package main

import (
	"go/format"
	"slices"
	"strings"
	"testing"
)

const sample = `package x

const limit = 10

func f(a, b int, name string) (ok bool) {
	if a < b && name != "" {
		ok = true
		g(a + 1)
	}
	for i := 0; i < 3; i++ {
		if i == a {
			continue
		}
		b += i
	}
	_ = "x" + name
	return ok
}
`

// Every kind of fault is found, once in each place, and what comes of it is a program
// that differs in that place alone.
func TestFaults(t *testing.T) {
	list, err := faults("x.go", []byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	var says []string
	for _, f := range list {
		says = append(says, f.says)
		changed := f.apply()
		if _, err := format.Source(changed); err != nil {
			t.Errorf("%v: %v", f, err)
		}
		before, after := strings.Split(sample, "\n"), strings.Split(string(changed), "\n")
		if len(before) != len(after) {
			t.Errorf("%v: it has %d lines, want %d", f, len(after), len(before))
			continue
		}
		for i := range before {
			if (before[i] != after[i]) != (i == f.line-1) {
				t.Errorf("%v: line %d is %q", f, i+1, after[i])
			}
		}
	}
	for _, want := range []string{`< becomes <= in "a < b"`, `&& becomes || in "a < b && name != \"\""`, `!= becomes == in "name != \"\""`, `the opposite of "a < b && name != \"\""`, `without "ok = true"`,
		"true becomes false", `without "g(a + 1)"`, "1 becomes 2", `+ becomes - in "a + 1"`, "0 becomes 1", `< becomes <= in "i < 3"`, "3 becomes 4", `the opposite of "i == a"`, `without "continue"`, `without "b += i"`} {
		if !slices.Contains(says, want) {
			t.Errorf("there is no fault %s in\n%s", want, strings.Join(says, "\n"))
		}
	}
	for _, f := range list {
		if strings.Contains(f.says, "10") || strings.Contains(f.says, `"x" + name`) && strings.Contains(f.says, "becomes") {
			t.Errorf("%v is no fault to try", f)
		}
	}
	// What differs in room alone is left alone.
	room, err := faults("x.go", []byte("package x\n\nfunc f() (l []int) {\n\tl = make([]int, 0, 7)\n\tl = slices.Clip(l)\n\tb.Grow(5)\n\treturn append(l, make([]int, 2)...)\n}\n"))
	if err != nil || len(room) != 1 || room[0].says != "2 becomes 3" {
		t.Errorf("of room, the faults are %v, %v", room, err)
	}
	if _, err := faults("x.go", []byte("package")); err == nil {
		t.Error("what is no Go is no error")
	}
}
