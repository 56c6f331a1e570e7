package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/proto"
)

// TestFirstLoad opens the Board in a browser without a cache, over a line of 1.6 Mbit/s: it checks the bytes,
// and that each address is requested once. The time to the first content is reported without a limit, because
// it depends on the machine.
func TestFirstLoad(t *testing.T) {
	r := demoAlone(t)
	p := r.open(browse(t), "wren")
	p.must("leaving it", p.page.Navigate("about:blank"))
	p.must("forgetting", proto.NetworkClearBrowserCache{}.Call(p.page))
	p.must("a slow line", proto.NetworkEmulateNetworkConditions{Latency: 20, DownloadThroughput: 200_000,
		UploadThroughput: 100_000}.Call(p.page))
	asked := map[proto.NetworkRequestID]string{}
	bytes, times := 0.0, map[string]int{}
	wait := p.page.Timeout(patience).EachEvent(func(e *proto.NetworkRequestWillBeSent) {
		asked[e.RequestID] = e.Request.URL
		if !strings.HasPrefix(e.Request.URL, "data:") {
			times[e.Request.URL]++
		}
	}, func(e *proto.NetworkLoadingFinished) {
		bytes += e.EncodedDataLength
	}, func(e *proto.PageLifecycleEvent) bool {
		return e.Name == proto.PageLifecycleEventNameNetworkAlmostIdle && len(asked) > 5
	})
	p.must("the browser telling of it", proto.PageSetLifecycleEventsEnabled{Enabled: true}.Call(p.page))
	begun := time.Now()
	go func() { _, _ = proto.PageNavigate{URL: r.address + "/s/frostline/board?stage=live"}.Call(p.page) }()
	wait()
	p.reads("Needs attention")
	painted := p.page.MustEval(`() => performance.getEntriesByName('first-contentful-paint')[0].startTime`).Num()
	t.Logf("%.0f KiB for %d addresses, something seen after %.0f ms, all there after %d ms", bytes/1024, len(times), painted,
		time.Since(begun).Milliseconds())
	if bytes > 200<<10 || len(times) > 16 {
		t.Errorf("%.0f KiB for %d addresses: %v", bytes/1024, len(times), times)
	}
	for url, n := range times { // data is requested again after events
		if n > 1 && !strings.Contains(url, "/api/") {
			t.Errorf("%s is fetched %d times", url, n)
		}
	}
}
