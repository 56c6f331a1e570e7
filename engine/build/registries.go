package build

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"time"
)

// registries returns the hosts that fetching can reach, and the configuration of tools for them: those that the
// operator names, and those in the configuration of the machine's own tools. It is read once.
func (b *Builder) registries(ctx context.Context) (hosts map[string]bool, env []string, err error) {
	b.fetching.Lock()
	defer b.fetching.Unlock()
	if b.hosts != nil {
		return b.hosts, b.hostEnv, nil
	}
	hosts = map[string]bool{}
	add := func(address string) {
		address = strings.TrimSpace(address)
		if !strings.Contains(address, "://") {
			address = "https://" + address
		}
		if u, err := url.Parse(address); err == nil && u.Hostname() != "" {
			hosts[strings.ToLower(u.Hostname())] = true
		}
	}
	for _, name := range b.named {
		add(name)
	}
	ask := func(name string, args ...string) string {
		ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()
		cmd := exec.CommandContext(ctx, name, args...)
		cmd.Dir = "/"
		out, err := cmd.Output()
		if err != nil {
			return "" // a missing tool fetches nothing
		}
		return strings.TrimSpace(string(out))
	}
	proxy, sums, _ := strings.Cut(ask("go", "env", "GOPROXY", "GOSUMDB"), "\n")
	for _, one := range strings.FieldsFunc(proxy, func(r rune) bool { return r == ',' || r == '|' }) {
		if one != "direct" && one != "off" {
			add(one)
		}
	}
	if fields := strings.Fields(sums); len(fields) > 0 && sums != "off" {
		name, _, _ := strings.Cut(fields[len(fields)-1], "+")
		add(name)
	}
	if proxy != "" {
		env = append(env, "GOPROXY="+strings.ReplaceAll(proxy, ",direct", ""), "GOSUMDB="+sums)
	}
	if registry := ask("npm", "config", "get", "registry"); strings.HasPrefix(registry, "http") {
		add(registry)
		env = append(env, "npm_config_registry="+registry)
	}
	if index := os.Getenv("PIP_INDEX_URL"); index != "" {
		add(index)
		env = append(env, "PIP_INDEX_URL="+index)
		if trusted := os.Getenv("PIP_TRUSTED_HOST"); trusted != "" {
			env = append(env, "PIP_TRUSTED_HOST="+trusted)
		}
	}
	if ctx.Err() != nil {
		return nil, nil, fmt.Errorf("asking tools for their registries: %w", ctx.Err())
	}
	b.hosts, b.hostEnv = hosts, env
	return hosts, env, nil
}
