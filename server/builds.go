package server

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"rudmar/core/provenance"
	"rudmar/engine/build"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// shownBuilds is how many builds are listed.
const shownBuilds = 20

func (h *handlers) ListBuilds(ctx context.Context, r api.ListBuildsRequestObject) (api.ListBuildsResponseObject,
	error) {
	list, err := h.engine.Build.Builds(ctx, r.Service, shownBuilds)
	if err != nil {
		return nil, err
	}
	out := api.ListBuilds200JSONResponse{}
	for _, b := range list {
		one := api.Build{Id: b.ID, Hash: b.Hash, Branch: b.Branch, Person: b.Person, State: api.BuildState(b.State),
			Reason: b.Reason, Log: b.Log, Version: b.Version, QueuedAt: b.QueuedAt.UnixMilli()}
		if !b.EndedAt.IsZero() {
			one.EndedAt = b.EndedAt.UnixMilli()
		}
		out = append(out, one)
	}
	return out, nil
}

func (h *handlers) CancelBuild(ctx context.Context, r api.CancelBuildRequestObject) (api.CancelBuildResponseObject,
	error) {
	person := who(ctx).person
	b, err := h.engine.Store.Build(ctx, r.Build)
	if err != nil || b.Service != r.Service {
		return nil, store.Missing(errors.Join(err, store.ErrNotFound), "build %d of %s", r.Build, r.Service)
	}
	if err := h.engine.Build.Cancel(ctx, r.Build, person.Username); errors.Is(err, build.ErrEnded) {
		return nil, badRequest(err.Error())
	} else if err != nil {
		return nil, err
	}
	return api.CancelBuild204Response{}, nil
}

// RetryBuild queues a failed or cancelled build again.
func (h *handlers) RetryBuild(ctx context.Context, r api.RetryBuildRequestObject) (api.RetryBuildResponseObject,
	error) {
	b, err := h.engine.Store.Build(ctx, r.Build)
	if err != nil || b.Service != r.Service {
		return nil, store.Missing(errors.Join(err, store.ErrNotFound), "build %d of %s", r.Build, r.Service)
	}
	if err := h.engine.Build.Retry(ctx, r.Build, who(ctx).person.Username); errors.Is(err, store.ErrNotFailed) {
		return nil, badRequest(err.Error())
	} else if err != nil {
		return nil, err
	}
	return api.RetryBuild204Response{}, nil
}

// getArchive sends the archive of a function, whole or in part (RFC 9110).
func (s *Server) getArchive(c *echo.Context) error {
	r := c.Request()
	service, function := c.Param("service"), c.Param("function")
	version, err := strconv.Atoi(c.Param("version"))
	if err != nil {
		return badRequest("the version must be a number")
	}
	functions, err := s.engine.Store.VersionFunctions(r.Context(), service, version)
	if err != nil {
		return err
	}
	for _, f := range functions {
		if f.Function != function {
			continue
		}
		archive, _, err := s.engine.Build.Archive(f.Digest)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(archive)
		h := c.Response().Header()
		h.Set("Content-Type", "application/zip")
		h.Set("Content-Disposition", mime.FormatMediaType("attachment",
			map[string]string{"filename": fmt.Sprintf("%s-%d-%s.zip", service, version, function)}))
		h.Set("ETag", `"`+hex.EncodeToString(sum[:])+`"`)
		h.Set("Cache-Control", "private, no-cache")
		http.ServeContent(c.Response(), r, "", time.Time{}, bytes.NewReader(archive))
		return nil
	}
	return store.Missing(store.ErrNotFound, "function %s in version %d of %s", function, version, service)
}

func (h *handlers) GetProvenance(ctx context.Context,
	r api.GetProvenanceRequestObject) (api.GetProvenanceResponseObject, error) {
	p, err := h.engine.Store.Provenance(ctx, r.Service, r.Version)
	if err != nil {
		return nil, store.Missing(err, "provenance of version %d of %s", r.Version, r.Service)
	}
	facts, verified, err := h.engine.Build.Verify(ctx, r.Service, r.Version)
	if err != nil && !errors.Is(err, build.ErrAltered) {
		return nil, err
	}
	out := api.Provenance{Repository: facts.Repository, Branch: facts.Branch, Commit: facts.Commit,
		Author: facts.Author, Person: facts.Person,
		StartedAt: facts.Begun.UnixMilli(), EndedAt: facts.Ended.UnixMilli(), KeyId: provenance.KeyID(h.engine.Build.Key()),
		Verified: []api.VerifiedItem{}}
	for _, v := range verified {
		out.Verified = append(out.Verified, api.VerifiedItem{Item: v.What, Problem: v.Problem})
	}
	err = errors.Join(json.Unmarshal([]byte(p.Envelope), &out.Envelope), json.Unmarshal([]byte(p.Contents), &out.Contents))
	return api.GetProvenance200JSONResponse(out), err
}
