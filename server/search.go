package server

import (
	"context"
	"path"
	"slices"
	"strconv"
	"strings"

	"rudmar/core/diagnostic"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// foundAtMost is how many of each kind are found.
const foundAtMost = 8

// searchedCommits is the number of searched commits.
const searchedCommits = 500

// Search returns the matches of a few words: newest first, the best of each kind.
func (h *handlers) Search(ctx context.Context, r api.SearchRequestObject) (api.SearchResponseObject, error) {
	words := strings.Fields(strings.ToLower(r.Params.Text))
	in := func(texts ...string) bool {
		whole := strings.ToLower(strings.Join(texts, " "))
		for _, w := range words {
			if !strings.Contains(whole, w) {
				return false
			}
		}
		return len(words) > 0
	}
	out := api.Search200JSONResponse{}
	count := map[api.SearchResultKind]int{}
	add := func(f api.SearchResult) {
		if count[f.Kind]++; count[f.Kind] <= foundAtMost {
			out = append(out, f)
		}
	}
	facts, err := h.facts(ctx, r.Service)
	if err != nil || len(words) == 0 {
		return out, err
	}
	versions, err := h.engine.Store.ListVersions(ctx, r.Service, store.Part{Text: longest(words), Limit: partSize})
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(versions, func(a, b store.Listed) int { // an exact number comes first
		named := func(v store.Listed) bool { return slices.Contains(words, strconv.Itoa(v.Number)) }
		switch {
		case named(a) == named(b):
			return 0
		case named(a):
			return -1
		}
		return 1
	})
	for _, v := range versions {
		if in("version", strconv.Itoa(v.Number), v.Message, v.Author, v.Person, v.Branch, v.Hash) {
			add(api.SearchResult{Kind: api.SearchResultKindVersion, Label: "version " + strconv.Itoa(v.Number), Description: api.Optional(v.Message),
				Version: api.Optional(v.Number)})
		}
	}
	if m := facts.Manifests; m != nil {
		for _, f := range m.Functions {
			if in("function", "logs of", f.Name, f.About) { // a function's result includes its log
				add(api.SearchResult{Kind: api.SearchResultKindFunction, Label: f.Name, Description: api.Optional(f.About)})
			}
		}
		for _, s := range m.Settings {
			if in("setting", s.Name, s.About) {
				add(api.SearchResult{Kind: api.SearchResultKindSetting, Label: s.Name, Description: api.Optional(s.About)})
			}
		}
		for _, name := range m.Secrets {
			for _, stage := range m.Stages {
				if in("secret", name, stage.Name) {
					add(api.SearchResult{Kind: api.SearchResultKindSecret, Label: name, Description: api.Optional("in " + stage.Name),
						Stage: api.Optional(stage.Name)})
				}
			}
		}
	}
	repo := h.engine.Host.Repository(facts.Service.Repository)
	if facts.Head.Hash != "" {
		commits, err := repo.History(ctx, facts.Head.Hash, "", searchedCommits)
		if err != nil {
			return nil, err
		}
		for _, c := range commits {
			if in("commit", c.Hash, c.Message, c.Author) {
				add(api.SearchResult{Kind: api.SearchResultKindCommit, Label: c.Message, Description: api.Optional(c.Hash[:8] + " by " + c.Author),
					Hash: api.Optional(c.Hash)})
			}
		}
		folder, err := repo.Folder(ctx, facts.Head.Hash, facts.Service.Dir)
		if err != nil {
			return nil, err
		}
		for _, name := range folder.Files() {
			if in("file", name) {
				dir := path.Dir(name)
				add(api.SearchResult{Kind: api.SearchResultKindFile, Label: path.Base(name), Description: &dir,
					File: api.Optional(name)})
			}
		}
	}
	for _, e := range diagnostic.Explanations() {
		if in(string(e.Code), e.Title) {
			add(api.SearchResult{Kind: api.SearchResultKindDiagnostic, Label: string(e.Code),
				Description: api.Optional(e.Title)})
		}
	}
	return out, nil
}

// longest returns the word by which the store filters best; the others filter its results.
func longest(words []string) string {
	best := ""
	for _, w := range words {
		if len(w) > len(best) && w != "version" {
			best = w
		}
	}
	return best
}
