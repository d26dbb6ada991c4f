// Package yorvet holds the licence of Yorvet, and those of the modules that are
// built into it.
package yorvet

import _ "embed"

// Licence is the licence of Yorvet: the Apache License 2.0.
//
//go:embed LICENSE
var Licence string

// Notice names the modules that are built into the program, each with its licence in
// full, as the licences ask for.
//
//go:embed NOTICE
var Notice string
