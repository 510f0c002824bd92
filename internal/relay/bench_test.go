package relay

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"slices"
	"sync"
	"testing"
	"time"
)

// BenchmarkProxy compares the proxy with a bare one of the standard library in front of the same server: the median
// of single small requests, and the throughput of eight clients.
func BenchmarkProxy(b *testing.B) {
	u, look := upstream(b, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "tides") })
	behind := &behind{}
	behind.set("tickets", look)
	_, ours := serve(b, Config{Target: Target{Unit: "tickets"}, Backend: behind})
	at, _ := url.Parse(u.URL)
	bare := httptest.NewServer(httputil.NewSingleHostReverseProxy(at))
	defer bare.Close()
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
	get := func(address string) time.Duration {
		began := time.Now()
		response, err := client.Get(address + "/")
		if err != nil {
			b.Error(err)
			return 0
		}
		io.Copy(io.Discard, response.Body)
		response.Body.Close()
		return time.Since(began)
	}
	median := map[string]time.Duration{}
	for range b.N {
		var all = map[string][]time.Duration{}
		for range 2000 { // alternately, so that other load affects all
			for _, address := range []string{u.URL, bare.URL, ours} {
				all[address] = append(all[address], get(address))
			}
		}
		for address, took := range all {
			slices.Sort(took)
			median[address] = took[len(took)/2]
		}
	}
	b.ReportMetric(float64((median[bare.URL] - median[u.URL]).Microseconds()), "bare-µs-added")
	b.ReportMetric(float64((median[ours] - median[u.URL]).Microseconds()), "µs-added")
	for name, address := range map[string]string{"bare-requests/s": bare.URL, "requests/s": ours} {
		const each, askers = 3000, 8
		began := time.Now()
		var all sync.WaitGroup
		for range askers {
			all.Go(func() {
				for range each {
					get(address)
				}
			})
		}
		all.Wait()
		b.ReportMetric(each*askers/time.Since(began).Seconds(), name)
	}
}
