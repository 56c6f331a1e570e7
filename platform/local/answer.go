package local

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/http/httpguts"

	"rudmar/platform/api"
)

// ownCookies are the prefixes of Rudmar's cookies: functions neither receive nor set them, in case routes and
// page share a host name.
func ownCookies() []string { return []string{"rudmar_", "__Host-rudmar_", "__Secure-rudmar_"} }

func ownCookie(name string) bool {
	return slices.ContainsFunc(ownCookies(),
		func(own string) bool { return strings.HasPrefix(strings.TrimSpace(name), own) })
}

// withoutOwnCookies removes Rudmar's cookies from a request.
func withoutOwnCookies(h http.Header) {
	lines := h.Values("Cookie")
	if len(lines) == 0 {
		return
	}
	var kept []string
	for _, line := range lines {
		for pair := range strings.SplitSeq(line, ";") {
			if name, _, _ := strings.Cut(pair, "="); strings.TrimSpace(pair) != "" && !ownCookie(name) {
				kept = append(kept, strings.TrimSpace(pair))
			}
		}
	}
	if h.Del("Cookie"); len(kept) > 0 {
		h.Set("Cookie", strings.Join(kept, "; "))
	}
}

// reservedHeaders are headers about the transfer, or about a whole host name: only the server sets them.
func reservedHeaders() []string {
	return []string{"Connection", "Keep-Alive", "Proxy-Authenticate", "Proxy-Authorization", "Proxy-Connection", "Te",
		"Trailer", "Transfer-Encoding", "Upgrade",
		"Content-Length", "Date", "Server", "Alt-Svc", "Clear-Site-Data", "Strict-Transport-Security", "Public-Key-Pins",
		"Service-Worker-Allowed", "Nel", "Report-To", "Reporting-Endpoints", "Www-Authenticate", "Rudmar-Invocation",
		"Rudmar-Revision"}
}

// routeResponse converts a handler's return value to an HTTP response.
type routeResponse struct {
	platform   *Platform
	call       call
	invocation api.Invocation
}

// tell writes a line about the answer to the function's log.
func (a *routeResponse) tell(format string, args ...any) {
	a.platform.observed.line(a.call.at, api.LogLine{
		At: time.Now().UnixMilli(), Function: a.call.at.function, Revision: a.invocation.Revision,
		Invocation: a.invocation.Id, Stream: "platform", Text: fmt.Sprintf(format, args...),
	})
}

// write answers {status, headers, body}, or any other JSON as a 200.
func (a *routeResponse) write(w http.ResponseWriter) error {
	inv := a.invocation
	w.Header().Set("Rudmar-Invocation", inv.Id)
	w.Header().Set("Rudmar-Revision", inv.Revision)
	switch inv.Outcome {
	case api.Succeeded:
	case api.Throttled:
		w.Header().Set("Retry-After", "1")
		return refuse(http.StatusTooManyRequests, "%s", inv.Error.Message)
	case api.TimedOut:
		return refuse(http.StatusGatewayTimeout, "%s", inv.Error.Message)
	case api.NotFound:
		return refuse(http.StatusNotFound, "%s", inv.Error.Message)
	default:
		// The code's error is in the log, not in the response to the caller.
		return refuse(http.StatusBadGateway, "the function failed; its log has the details, under invocation %s", inv.Id)
	}
	status, body := http.StatusOK, inv.Response
	if m, ok := inv.Response.(map[string]any); ok {
		if s, ok := m["status"].(float64); ok && s >= 100 && s <= 599 {
			if s < 200 || s != float64(int(s)) {
				a.tell("the response's status %v is not allowed; use 200 to 599", s)
				return refuse(http.StatusBadGateway,
					"the function returned an invalid status; its log has the details, under invocation %s", inv.Id)
			}
			status, body = int(s), m["body"]
			headers, _ := m["headers"].(map[string]any)
			a.headers(w.Header(), headers)
			if encoded, _ := body.(string); m["body_is_base64"] == true {
				return answerBytes(w, status, encoded, inv.Id)
			}
		}
	}
	text, isText := body.(string)
	if w.Header().Get("Content-Type") == "" {
		w.Header().Set("Content-Type", map[bool]string{true: "text/plain; charset=utf-8", false: "application/json"}[isText])
	}
	w.WriteHeader(status)
	if body == nil && status != http.StatusOK || status == http.StatusNoContent || status == http.StatusNotModified {
		return nil
	}
	if isText && !strings.Contains(w.Header().Get("Content-Type"), "json") {
		_, _ = io.WriteString(w, text) // the client may have disconnected
		return nil
	}
	_ = json.NewEncoder(w).Encode(body) // the client may have disconnected
	return nil
}

// headers sets the headers of a function's response, except for reserved ones.
func (a *routeResponse) headers(to http.Header, given map[string]any) {
	for _, name := range slices.Sorted(maps.Keys(given)) {
		value := fmt.Sprint(given[name])
		known := http.CanonicalHeaderKey(name)
		switch {
		case !httpguts.ValidHeaderFieldName(name) || !httpguts.ValidHeaderFieldValue(value):
			a.tell("dropped header %q: its name or value is not valid in HTTP", name)
		case slices.Contains(reservedHeaders(), known):
			a.tell("dropped header %s: a function cannot set it", known)
		case known == "Set-Cookie" && !mayBeSet(value):
			a.tell("dropped cookie %q: it must have a name, belong to the route's own host and not use Rudmar's cookie names",
				strings.SplitN(value, "=", 2)[0])
		default:
			to.Set(name, value)
		}
	}
}

// mayBeSet reports whether a function can set a cookie: only for its own host.
func mayBeSet(cookie string) bool {
	name, _, named := strings.Cut(cookie, "=")
	if pair, _, _ := strings.Cut(cookie, ";"); !named || !strings.Contains(pair, "=") {
		return false // browsers send its value as the name of another cookie
	}
	if strings.TrimSpace(name) == "" || ownCookie(name) {
		return false
	}
	for part := range strings.SplitSeq(cookie, ";") {
		if key, _, _ := strings.Cut(part, "="); strings.EqualFold(strings.TrimSpace(key), "domain") {
			return false
		}
	}
	return true
}

// answerBytes answers with a body that is not text.
func answerBytes(w http.ResponseWriter, status int, encoded, id string) error {
	content, err := base64.StdEncoding.DecodeString(encoded)
	if err != nil {
		return refuse(http.StatusBadGateway,
			"the function's response is marked as base64, but its body is not (invocation %s)", id)
	}
	if w.Header().Get("Content-Type") == "" {
		w.Header().Set("Content-Type", "application/octet-stream")
	}
	w.WriteHeader(status)
	_, _ = w.Write(content) // the client may have disconnected
	return nil
}
