package server

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/parser"
	"github.com/yuin/goldmark/text"

	"rudmar/engine/store"
	"rudmar/server/api"
)

// document is an embedded document, parsed once.
type document struct {
	api.Document
	html string
}

// readDocuments turns the documents into HTML; their links lead to the page.
func readDocuments(files fs.FS) (map[string]document, error) {
	markdown := goldmark.New(goldmark.WithExtensions(extension.GFM),
		goldmark.WithParserOptions(parser.WithAutoHeadingID()))
	out := map[string]document{}
	err := fs.WalkDir(files, ".", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, ".md") {
			return err
		}
		source, err := fs.ReadFile(files, file)
		if err != nil {
			return err
		}
		doc := document{Document: api.Document{Name: documentName(file), Headings: []api.Heading{}}}
		tree := markdown.Parser().Parse(text.NewReader(source))
		err = ast.Walk(tree, func(n ast.Node, entering bool) (ast.WalkStatus, error) {
			switch n := n.(type) {
			case *ast.Heading:
				if entering {
					doc.heading(n, source)
				}
			case *ast.Link:
				if entering {
					n.Destination = []byte(documentLink(file, string(n.Destination)))
				}
			}
			return ast.WalkContinue, nil
		})
		var html bytes.Buffer
		if err == nil {
			err = markdown.Renderer().Render(&html, source, tree)
		}
		if err != nil {
			return fmt.Errorf("reading the document %s: %w", file, err)
		}
		doc.html = html.String()
		out[doc.Name] = doc
		return nil
	})
	return out, err
}

func (d *document) heading(n *ast.Heading, source []byte) {
	var words strings.Builder
	for c := n.FirstChild(); c != nil; c = c.NextSibling() {
		if t, ok := c.(*ast.Text); ok {
			words.Write(t.Segment.Value(source))
		} else if code, ok := c.(*ast.CodeSpan); ok {
			for t := code.FirstChild(); t != nil; t = t.NextSibling() {
				if t, ok := t.(*ast.Text); ok {
					words.Write(t.Segment.Value(source))
				}
			}
		}
	}
	if n.Level == 1 {
		d.Title = words.String()
		return
	}
	id, _ := n.AttributeString("id")
	name, _ := id.([]byte)
	// A diagnostic's heading is found by its code: RM1101 for "RM1101: unknown key".
	if code, _, ok := strings.Cut(words.String(), ":"); ok && strings.HasPrefix(code, "RM") {
		name = []byte(strings.ToLower(code))
		n.SetAttributeString("id", name)
	}
	d.Headings = append(d.Headings, api.Heading{Id: string(name), Text: words.String()})
}

// documentName is a file's name in addresses: "manifest" for manifest.md.
func documentName(file string) string {
	return strings.ReplaceAll(strings.TrimSuffix(strings.TrimSuffix(file, ".md"), "/README"), "/", ".")
}

func documentLink(from, to string) string {
	if strings.Contains(to, "://") || strings.HasPrefix(to, "#") || strings.HasPrefix(to, "/") {
		return to
	}
	file, anchor, cut := strings.Cut(to, "#")
	if !strings.HasSuffix(file, ".md") {
		return to
	}
	to = "/docs/" + documentName(path.Join(path.Dir(from), file))
	if cut {
		to += "#" + anchor
	}
	return to
}

func (h *handlers) ListDocs(context.Context, api.ListDocsRequestObject) (api.ListDocsResponseObject, error) {
	documents, err := h.documents()
	if err != nil {
		return nil, err
	}
	out := api.ListDocs200JSONResponse{}
	for _, d := range documents {
		out = append(out, d.Document)
	}
	slices.SortFunc(out, func(a, b api.Document) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func (h *handlers) GetDoc(_ context.Context, r api.GetDocRequestObject) (api.GetDocResponseObject, error) {
	documents, err := h.documents()
	if err != nil {
		return nil, err
	}
	d, ok := documents[r.Name]
	if !ok {
		return nil, store.Missing(store.ErrNotFound, "document %q", r.Name)
	}
	return api.GetDoc200JSONResponse{Name: d.Name, Title: d.Title, Html: d.html}, nil
}
