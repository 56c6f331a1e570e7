package local

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"rudmar/bodytime"
	"rudmar/core/pack"
	"rudmar/core/resource"
	"rudmar/platform/api"
	"rudmar/platform/local/wasm"
)

// maxArchive is the maximum size of an archive, in bytes.
const maxArchive = pack.MaxBytes + 8<<20

// Protocol serves the platform protocol, the data of functions, and changes by hand.
func (p *Platform) Protocol() http.Handler {
	e := echo.New()
	e.Logger = p.options.Log
	e.HTTPErrorHandler = p.problem
	e.Use(middleware.Recover())
	e.Use(p.authenticate, limited, steady, p.withFaults)
	api.RegisterHandlers(e, api.NewStrictHandler(&protocol{p}, nil))
	p.data(e)
	e.PUT("/hand/:region/:service/:stage/:address", p.serveChange)
	e.DELETE("/hand/:region/:service/:stage/:address", p.serveChange)
	e.POST("/hand/callers", p.addCaller)
	e.PUT("/hand/:region/faults", p.setFaults)
	e.PUT("/hand/:region/:service/:stage/secrets/:name", p.keepSecret)
	e.POST("/hand/:region/:service/:stage/queues/:name", p.serveMessage)
	e.PUT("/hand/:region/:service/:stage/objects/:name/*", p.serveObject)
	return e
}

// steady ends bodies that arrive too slowly, such as those of archives.
func steady(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		r.Body = bodytime.Limit(c.Response(), r, bodyTime)
		return next(c)
	}
}

// authenticate requires the installation's token; /data has tokens of its own.
func (p *Platform) authenticate(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if strings.HasPrefix(c.Request().URL.Path, "/data/") {
			return next(c)
		}
		token, _ := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
		if subtle.ConstantTimeCompare([]byte(token), []byte(p.options.Token)) != 1 {
			return refuse(http.StatusUnauthorized, "the platform's token is missing or wrong")
		}
		return next(c)
	}
}

// maxWish is the most bytes that a request has which brings no archive.
const maxWish = 16 << 20

// limited rejects large requests before they are read; archives have a limit of their own.
func limited(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if !strings.HasPrefix(r.URL.Path, "/artifacts/") {
			if r.ContentLength > maxWish {
				return refuse(http.StatusRequestEntityTooLarge, "a request can have %d MiB", maxWish>>20)
			}
			r.Body = http.MaxBytesReader(c.Response(), r.Body, maxWish)
		}
		return next(c)
	}
}

// problem answers an error by RFC 9457.
func (p *Platform) problem(c *echo.Context, err error) {
	writeProblem(c.Response(), p.asRefusal(c.Request(), err))
}

func (p *Platform) asRefusal(r *http.Request, err error) *refusal {
	var known *refusal
	var coded echo.HTTPStatusCoder
	switch {
	case errors.As(err, &known):
		return known
	case errors.As(err, &coded):
		return &refusal{status: coded.StatusCode(), title: http.StatusText(coded.StatusCode()), detail: err.Error()}
	}
	p.options.Log.Error("answering", "method", r.Method, "path", r.URL.Path, "error", err)
	return &refusal{status: 500, title: "Internal Server Error",
		detail: "the platform could not do this; see its log"}
}

// protocol answers the generated interface.
type protocol struct{ p *Platform }

func (s *protocol) HasArtifact(_ context.Context, r api.HasArtifactRequestObject) (api.HasArtifactResponseObject,
	error) {
	if !s.p.archives.whole(r.Digest) {
		return api.HasArtifact404Response{}, nil
	}
	return api.HasArtifact200Response{}, nil
}

func (s *protocol) PutArtifact(_ context.Context, r api.PutArtifactRequestObject) (api.PutArtifactResponseObject,
	error) {
	archive, err := io.ReadAll(io.LimitReader(r.Body, maxArchive+1))
	if err != nil {
		return nil, err
	}
	if len(archive) > maxArchive {
		return nil, refuse(http.StatusRequestEntityTooLarge, "the archive has more than %d MiB", maxArchive>>20)
	}
	entries, err := pack.Read(archive, r.Digest)
	if err != nil {
		return nil, refuse(http.StatusUnprocessableEntity, "%v", err)
	}
	if err := s.p.archives.put(r.Digest, archive); err != nil {
		return nil, err
	}
	if slices.ContainsFunc(entries, func(e pack.Entry) bool { return e.Path == wasm.File }) {
		s.p.compileSoon(r.Digest) // its revision is requested next
	}
	return api.PutArtifact204Response{}, nil
}

func (s *protocol) GetKinds(context.Context, api.GetKindsRequestObject) (api.GetKindsResponseObject, error) {
	renames := true
	return api.GetKinds200JSONResponse{
		Platform: "local", Simulated: true, Regions: regions(), Kinds: kinds(), Permissions: permissions(),
		Runtimes: runtimes(), Triggers: triggers(), RoutesAt: s.p.options.RoutesAt + "/{region}/{service}/{stage}",
		Renames: &renames, Quotas: quotas(), Prices: prices(), Notes: s.p.notes(),
	}, nil
}

// snapshotTag returns the entity tag of a snapshot: it includes the address of the routes, which is another one when
// the platform was started with another.
func (p *Platform) snapshotTag(fingerprint string) string {
	return fmt.Sprintf("\"%s-%.8x\"", fingerprint, sha256.Sum256([]byte(p.options.RoutesAt)))
}

func (s *protocol) GetSnapshot(ctx context.Context, r api.GetSnapshotRequestObject) (api.GetSnapshotResponseObject,
	error) {
	sc, known := scope{r.Region, r.Service, r.Stage}, orZero(r.Params.IfNoneMatch)
	if known != "" {
		still, err := s.p.unchanged(ctx, sc)
		if err != nil {
			return nil, err
		}
		if still != "" && strings.Contains(known, s.p.snapshotTag(still)) {
			return api.GetSnapshot304Response{}, nil
		}
	}
	snapshot, err := s.p.snapshot(ctx, sc)
	if err != nil {
		return nil, err
	}
	tag := s.p.snapshotTag(snapshot.Fingerprint)
	if known == "*" || strings.Contains(known, tag) {
		return api.GetSnapshot304Response{}, nil
	}
	return api.GetSnapshot200JSONResponse{Body: snapshot, Headers: api.GetSnapshot200ResponseHeaders{ETag: &tag}}, nil
}

func (s *protocol) PutResource(ctx context.Context, r api.PutResourceRequestObject) (api.PutResourceResponseObject,
	error) {
	w := changeRequest{Key: r.Params.IdempotencyKey, Match: orZero(r.Params.IfMatch), Attributes: r.Body.Attributes,
		Secrets: orZero(r.Body.Secrets), Version: orZero(r.Body.Version), RenamedFrom: orZero(r.Body.RenamedFrom),
		Replace: orZero(r.Body.Replace), Fence: orZero(r.Params.Fence)}
	sc, address := scope{r.Region, r.Service, r.Stage}, unescape(r.Address)
	module, err := s.p.mustCompile(ctx, sc, address, w)
	if err != nil {
		return nil, err
	}
	if module != "" {
		s.p.compileSoon(module)
	}
	if module != "" || s.p.operations.requested(sc, r.Params.Prefer) {
		out, err := s.p.operations.accepted(ctx, sc, address, w)
		return api.PutResource202JSONResponse{AcceptedJSONResponse: out}, err
	}
	out, err := s.p.put(ctx, sc, address, w)
	return api.PutResource200JSONResponse(out), err
}

func (s *protocol) DeleteResource(ctx context.Context,
	r api.DeleteResourceRequestObject) (api.DeleteResourceResponseObject, error) {
	sc, address := scope{r.Region, r.Service, r.Stage}, unescape(r.Address)
	w := changeRequest{Key: r.Params.IdempotencyKey, Remove: true, Match: orZero(r.Params.IfMatch),
		Fence: orZero(r.Params.Fence)}
	if s.p.operations.requested(sc, r.Params.Prefer) {
		out, err := s.p.operations.accepted(ctx, sc, address, w)
		return api.DeleteResource202JSONResponse{AcceptedJSONResponse: out}, err
	}
	if err := s.p.remove(ctx, sc, address, w); err != nil {
		return nil, err
	}
	return api.DeleteResource204Response{}, nil
}

// unescape unescapes slashes in an address that the router left escaped.
func unescape(address string) string {
	if out, err := url.PathUnescape(address); err == nil {
		return out
	}
	return address
}

func (s *protocol) Invoke(ctx context.Context, r api.InvokeRequestObject) (api.InvokeResponseObject, error) {
	inv, err := s.p.invoke(ctx, call{at: member{scope{r.Region, r.Service, r.Stage}, r.Function}, event: r.Body.Event,
		trigger: orZero(r.Body.Trigger), purpose: string(orZero(r.Body.Purpose))})
	return api.Invoke200JSONResponse(inv), err
}

func (s *protocol) CreateCaller(_ context.Context, r api.CreateCallerRequestObject) (api.CreateCallerResponseObject,
	error) {
	valid := callersFor
	if seconds := orZero(r.Body.Seconds); seconds > 0 {
		valid = time.Duration(seconds) * time.Second
	}
	return api.CreateCaller201JSONResponse{Token: s.p.callers.create(temporaryCaller{
		scope: scope{r.Region, r.Service, r.Stage}, purpose: string(r.Body.Purpose), groups: r.Body.Groups}, valid)}, nil
}

func (s *protocol) GetInvocation(_ context.Context, r api.GetInvocationRequestObject) (api.GetInvocationResponseObject,
	error) {
	inv, ok := s.p.callers.calls.Get(keptCall{scope{r.Region, r.Service, r.Stage}, r.Id})
	if !ok {
		return nil, refuse(http.StatusNotFound, "invocation %s is not kept", r.Id)
	}
	return api.GetInvocation200JSONResponse(inv), nil
}

func (s *protocol) GetMetrics(ctx context.Context, r api.GetMetricsRequestObject) (api.GetMetricsResponseObject,
	error) {
	minutes, err := s.p.observed.sums(ctx, scope{r.Region, r.Service, r.Stage}, orZero(r.Params.Since))
	if orZero(r.Params.Whole) {
		minutes = summed(minutes)
	}
	return api.GetMetrics200JSONResponse{Minutes: minutes}, err
}

func (s *protocol) GetHoldings(ctx context.Context,
	r api.GetHoldingsRequestObject) (api.GetHoldingsResponseObject, error) {
	held, err := s.p.observed.holdings(ctx, scope{r.Region, r.Service, r.Stage})
	return api.GetHoldings200JSONResponse{Holdings: held}, err
}

func (s *protocol) GetAccess(ctx context.Context, r api.GetAccessRequestObject) (api.GetAccessResponseObject, error) {
	uses, err := s.p.observed.accessUses(ctx, scope{r.Region, r.Service, r.Stage})
	return api.GetAccess200JSONResponse{Uses: uses}, err
}

// serveChange changes a resource without Rudmar's knowledge. A changed function is published at once, as
// editing it in place would.
func (p *Platform) serveChange(c *echo.Context) error {
	ctx := c.Request().Context()
	sc := scopeOf(c)
	address := unescape(c.Param("address"))
	if c.Request().Method == http.MethodDelete {
		if err := p.remove(ctx, sc, address, changeRequest{Key: "hand-" + random(8)}); err != nil {
			return err
		}
		return c.NoContent(http.StatusNoContent)
	}
	var set map[string]any
	if err := json.NewDecoder(c.Request().Body).Decode(&set); err != nil {
		return refuse(http.StatusBadRequest, "the body must be a mapping of attributes: %v", err)
	}
	before, ok, err := p.store.resource(ctx, p.store.db, sc, address)
	if err != nil {
		return err
	}
	if !ok {
		return refuse(http.StatusNotFound, "%s does not exist; see `rudmar platform show %s`", address, sc)
	}
	secrets, err := p.store.secrets(ctx, sc, address)
	if err != nil {
		return err
	}
	for name, v := range set {
		delete(secrets, name)
		if before.attributes[name] = v; v == nil {
			delete(before.attributes, name)
		}
	}
	out, err := p.put(ctx, sc, address,
		changeRequest{Key: "hand-" + random(8), Attributes: before.attributes, Secrets: secrets, Version: before.version,
			Replace: true}) // as if it had been deleted and created again
	if err != nil {
		return err
	}
	if function, ok := strings.CutPrefix(address, resource.Function+"/"); ok {
		if err := p.publish(ctx, sc, function, before); err != nil {
			return err
		}
	}
	return c.JSON(http.StatusOK, out)
}

// publish freezes a function as it is now and points all calls to that.
func (p *Platform) publish(ctx context.Context, sc scope, function string, config row) error {
	now, ok, err := p.store.resource(ctx, p.store.db, sc, resource.Revision+"/"+function)
	if err != nil || !ok {
		return err
	}
	configuration := resource.Configuration(config.attributes)
	artifact, _ := now.attributes["artifact"].(string)
	id := resource.RevisionID(artifact, configuration)
	if _, err := p.put(ctx, sc, resource.Revision+"/"+function, changeRequest{Key: "hand-" + random(8), Version: now.version,
		Replace: true, Attributes: map[string]any{"artifact": artifact, "configuration": configuration, "id": id}}); err != nil {
		return err
	}
	_, err = p.put(ctx, sc, resource.Pointer+"/"+function, changeRequest{Key: "hand-" + random(8), Version: now.version,
		Attributes: map[string]any{"shares": map[string]any{id: 100.0}}})
	return err
}
