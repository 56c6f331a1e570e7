// Package docs holds the documents that come with the program.
package docs

import "embed"

// Files are the documents, in Markdown.
//
//go:embed *.md decisions/*.md
var Files embed.FS
