// Package page serves the front end, which is embedded in the program.
package page

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"regexp"
	"strings"
	"time"

	"github.com/elnormous/contenttype"
)

//go:embed all:dist
var built embed.FS

// file is a built file, with its compressed forms.
type file struct {
	kind    string
	tag     string
	content map[string][]byte // by encoding; "" uncompressed
}

// pages are the paths of the front end; other paths do not exist.
var pages = regexp.MustCompile(`^/($|(services|notifications|account|api)$|docs($|/)|s/)`)

// Handler serves the built files, and the page for paths of the front end. Files have an ETag; those with a
// content hash in their name are cached forever. A compressed form is sent if the client accepts it (RFC 9110,
// section 8.4).
func Handler() http.Handler {
	dist, err := fs.Sub(built, "dist")
	if err != nil {
		panic(err) // the folder is compiled in
	}
	files, err := read(dist)
	if err != nil {
		panic(err)
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(r.URL.Path, "/")
		h := w.Header()
		h.Set("Vary", "Accept-Encoding")
		f := files[name]
		switch {
		case strings.HasPrefix(name, "assets/") && f != nil:
			h.Set("Cache-Control", "public, max-age=31536000, immutable")
		case f != nil && name != "index.html":
			h.Set("Cache-Control", "no-cache")
		case files["index.html"] == nil:
			http.Error(w, "The page is not part of this build. Run `make build`.", http.StatusNotFound)
			return
		case pages.MatchString(r.URL.Path):
			f = files["index.html"]
			h.Set("Cache-Control", "no-cache")
		case readsPages(r):
			h.Set("Cache-Control", "no-cache")
			h.Set("Content-Type", "text/html; charset=utf-8")
			w.WriteHeader(http.StatusNotFound)
			_, _ = w.Write(files["index.html"].content[""]) // the page shows that nothing was found
			return
		default:
			http.Error(w, "there is no page at this address", http.StatusNotFound)
			return
		}
		f.serve(w, r)
	})
}

// readsPages reports whether the client is a browser that requests a page.
func readsPages(r *http.Request) bool {
	accepted, _, err := contenttype.GetAcceptableMediaType(r, []contenttype.MediaType{
		contenttype.NewMediaType("text/plain"), contenttype.NewMediaType("text/html")})
	return err == nil && accepted.Subtype == "html"
}

func (f *file) serve(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	encoding := ""
	for _, one := range []string{"br", "gzip"} {
		if f.content[one] != nil && encodes(r.Header.Get("Accept-Encoding"), one) {
			encoding = one
			h.Set("Content-Encoding", one)
			break
		}
	}
	h.Set("Content-Type", f.kind)
	tag := f.tag
	if encoding != "" {
		tag += "-" + encoding
	}
	h.Set("ETag", `"`+tag+`"`)
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(f.content[encoding]))
}

// encodes reports whether a list of encodings contains one that is not excluded by q=0.
func encodes(list, encoding string) bool {
	for one := range strings.SplitSeq(list, ",") {
		name, weight, _ := strings.Cut(strings.TrimSpace(one), ";")
		if name == encoding {
			weight = strings.ReplaceAll(weight, " ", "")
			return weight != "q=0" && !strings.HasPrefix(weight, "q=0.000")
		}
	}
	return false
}

func read(dist fs.FS) (map[string]*file, error) {
	files := map[string]*file{}
	err := fs.WalkDir(dist, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasPrefix(d.Name(), ".") {
			return err
		}
		content, err := fs.ReadFile(dist, name)
		if err != nil {
			return err
		}
		plain, encoding := name, ""
		for end, as := range map[string]string{".br": "br", ".gz": "gzip"} {
			if cut, ok := strings.CutSuffix(name, end); ok {
				plain, encoding = cut, as
			}
		}
		f := files[plain]
		if f == nil {
			f = &file{kind: mime.TypeByExtension(path.Ext(plain)), content: map[string][]byte{}}
			files[plain] = f
		}
		f.content[encoding] = content
		if encoding == "" {
			sum := sha256.Sum256(content)
			f.tag = hex.EncodeToString(sum[:12])
		}
		return nil
	})
	return files, err
}
