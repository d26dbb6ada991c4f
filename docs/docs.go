// Package docs holds the documents that the program itself can show.
package docs

import "embed"

// Files are the documents, in Markdown.
//
//go:embed words.md selectors.md evaluation.md connections.md exit-codes.md
var Files embed.FS
