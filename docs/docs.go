// Package docs embeds the documentation.
package docs

import "embed"

// Files are the documents, in Markdown.
//
//go:embed *.md decisions/*.md
var Files embed.FS
