package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/labstack/echo/v5"

	"rudmar/core/manifest"
	"rudmar/core/rights"
	"rudmar/engine/deliver"
	"rudmar/engine/store"
)

// scopeSource tells where the scope of an operation's right comes from.
type scopeSource string

const (
	nobody       scopeSource = "no sign-in"
	themselves   scopeSource = "about the caller alone"
	listed       scopeSource = "each item of the list"
	wholeServer  scopeSource = "everywhere"
	inRepository scopeSource = "the repository"
	inService    scopeSource = "the service"
	inStage      scopeSource = "the stage"
	inQuery      scopeSource = "the stage in the query, or the service"
	ofPlan       scopeSource = "the plan's stage"
	ofDeployment scopeSource = "the deployment's stage"
	// inBody is a scope in the request's body, or of the stored object: the handler checks the right.
	inBody scopeSource = "the stage or service that the request names"
)

// access is the right that an operation requires: one of them, in a scope.
type access struct {
	scope  scopeSource
	rights []rights.Permission
}

// operationAccess returns the access of each operation, by its name in openapi.yaml. It is the only place that states
// them: every request is checked with it, so handlers check only scopes that the request's body names, and
// docs/security.md shows it.
func operationAccess() map[string]access {
	of := func(scope scopeSource, list ...rights.Permission) access { return access{scope, list} }
	const (
		view, write, deploy, admin = rights.View, rights.Write, rights.Deploy, rights.Administer
	)
	return map[string]access{
		"signIn": of(nobody), "getWelcome": of(nobody),
		"getSession": of(themselves), "signOut": of(themselves), "listTokens": of(themselves),
		"createToken": of(themselves), "revokeToken": of(themselves), "changePassword": of(themselves), "listSessions": of(themselves),
		"endSession": of(themselves), "getSchema": of(themselves), "listDocs": of(themselves),
		"getDoc":    of(themselves),
		"getHealth": of(listed, view), "listServices": of(listed, view), "listRepositories": of(listed, view),
		"listCopies": of(listed, view), "followEvents": of(listed, view), "listNotificationTargets": of(listed, admin),
		"createRepository": of(wholeServer, write), "deleteRepository": of(wholeServer, admin),
		"setMirror": of(wholeServer, admin), "fetchMirror": of(wholeServer, admin), "deleteMirror": of(wholeServer, admin),
		"deleteService": of(inService, admin), "moveService": of(inService, admin),
		"getStageLine": of(inService, view), "getBoard": of(inService, view), "search": of(inService, view),
		"getSource": of(inService, view), "getFile": of(inService, view), "checkSource": of(inService, view),
		"draftPlan": of(inBody, view), "assistSource": of(inService, view), "getFileHistory": of(inService, view),
		"renameFunction": of(inService, write), "getStarter": of(inService, view), "testRoute": of(inService, view),
		"commitSource": of(inService, write), "listBuilds": of(inService, view), "cancelBuild": of(inService, write),
		"retryBuild": of(inService, write), "getArchive": of(inService, view), "getProvenance": of(inService, view),
		"compareVersions": of(inService, view), "getLineAuthors": of(inService, view), "listVersions": of(inService, view),
		"getVersion": of(inService, view), "getArchiveFile": of(inService, view),
		"createNotificationTarget": of(inBody, admin), "deleteNotificationTarget": of(inBody, admin),
		"listNotifications": of(inBody, admin), "resendNotification": of(inBody, admin),
		"deleteCopy": of(inService, write, admin), "putCopy": of(inService, write),
		"invokeCopy": of(inService, rights.Invoke), "runCopyCases": of(inService, rights.Invoke),
		"followCopyLogs": of(inService, view),
		"savePlan":       of(inBody, view), "computePlan": of(inQuery, view), "listPlanSteps": of(inQuery, view),
		"listOutputs": of(inQuery, view), "listDrift": of(inQuery, view), "ignoreDrift": of(inBody, deploy),
		"unignoreDrift": of(inBody, deploy), "copyDrift": of(inBody, write),
		"getPlan": of(ofPlan, view), "getPlanDocument": of(ofPlan, view), "getPlanText": of(ofPlan, view),
		"comparePlans": of(ofPlan, view), "runPlan": of(ofPlan, deploy),
		"listDeployments": of(inService, view), "getDeployment": of(ofDeployment, view),
		"actOnDeployment": of(ofDeployment, deploy),
		"listDeliveries":  of(inService, view), "getDeliveryMetrics": of(inQuery, view),
		"getDeliveryStage": of(inStage, view), "getImpact": of(inStage, view),
		"actOnDelivery": of(inStage, rights.Request, rights.Approve, rights.Override, deploy),
		"getCalendar":   of(inStage, view), "getFunction": of(inStage, view), "getMetrics": of(inStage, view),
		"invokeFunction": of(inStage, rights.Invoke), "runCases": of(inStage, rights.Invoke),
		"getMessages": of(inStage, view), "retryMessage": of(inStage, deploy), "deleteMessage": of(inStage, deploy),
		"getLogs": of(inStage, view), "followLogs": of(inStage, view), "getSecrets": of(inStage, view),
		"setSecret": of(inStage, rights.SetSecrets), "getJournal": of(inService, view),
	}
}

// operationsByRoute returns the operations of the description by method and pattern of their path.
func operationsByRoute(description *openapi3.T) map[string]string {
	out := map[string]string{}
	named := regexp.MustCompile(`\{(\w+)\}`)
	for path, item := range description.Paths.Map() {
		for method, operation := range item.Operations() {
			out[method+" "+named.ReplaceAllString(path, ":$1")] = operation.OperationID
		}
	}
	return out
}

// guard rejects requests without the right that their operation requires.
type guard struct {
	server *Server
	byPath map[string]string
	access map[string]access
}

// errNoAccess reports an operation without a row in operationAccess.
var errNoAccess = errors.New("this operation states no right; it is closed")

// check is the middleware of the guard, after signing in.
func (g *guard) check(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if c.Path() == "/api/*" || c.Path() == "/api/openapi.yaml" { // no operation
			return next(c)
		}
		a, ok := g.access[g.byPath[r.Method+" "+c.Path()]]
		if !ok {
			return fmt.Errorf("%w: %s %s: %w", rights.ErrDenied, r.Method, c.Path(), errNoAccess)
		}
		scopes, err := g.scopes(r.Context(), c, a.scope)
		if err != nil {
			return err
		}
		for _, in := range scopes {
			if err := mayOne(who(r.Context()).person, a, in); err != nil {
				return err
			}
		}
		return next(c)
	}
}

// mayOne returns nil if somebody has one of the rights; in a body's scope, the right to view the service is checked
// here.
func mayOne(p store.Person, a access, in rights.Scope) error {
	list := a.rights
	if a.scope == inBody {
		list = []rights.Permission{rights.View}
	}
	var last error
	for _, right := range list {
		if last = deliver.MayIn(p, right, in); last == nil {
			return nil
		}
	}
	return last
}

var pathName = regexp.MustCompile(`^[a-z0-9-]{1,40}$`)

// scopes returns the scopes in which a request needs its right; none if nothing is checked here.
func (g *guard) scopes(ctx context.Context, c *echo.Context, source scopeSource) ([]rights.Scope, error) {
	service, stage := c.Param("service"), c.Param("stage")
	if stage == "" && source == inQuery {
		stage = c.QueryParam("stage")
	}
	for _, name := range []string{service, stage} {
		if name != "" && !pathName.MatchString(name) { // such as a private copy, which only its owner can view
			return nil, store.NotFound("%q is not the name of a service or stage", name)
		}
	}
	switch source {
	case wholeServer:
		return []rights.Scope{{}}, nil
	case inService, inStage, inQuery:
		return []rights.Scope{{Service: service, Stage: stage}}, nil
	case inBody:
		if service == "" {
			return nil, nil
		}
		return []rights.Scope{{Service: service}}, nil
	case ofPlan, ofDeployment:
		placeOf := g.server.engine.Store.PlaceOfPlan
		if source == ofDeployment {
			placeOf = g.server.engine.Store.PlaceOfDeployment
		}
		var out []rights.Scope
		for _, name := range []string{"id", "other"} {
			if c.Param(name) == "" {
				continue
			}
			place, err := g.place(ctx, c.Param(name), placeOf)
			if err != nil {
				return nil, err
			}
			out = append(out, rights.Scope{Service: place.Service, Stage: place.Stage})
		}
		return out, nil
	}
	return nil, nil
}

func (g *guard) place(ctx context.Context, id string,
	placeOf func(context.Context, int64) (manifest.Place, error)) (manifest.Place, error) {
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return manifest.Place{}, echo.NewHTTPError(http.StatusBadRequest, strings.TrimSpace(id+" is not a number"))
	}
	return placeOf(ctx, n)
}
