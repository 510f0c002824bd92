package draft

import (
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
)

// readCompose proposes the services of compose files, which need a container engine, as comments.
func readCompose(p *project.Project) {
	names := []string{"compose.yaml", "compose.yml", "docker-compose.yaml", "docker-compose.yml"}
	for _, dir := range p.Places(names...) {
		file := p.FirstIn(dir, names...)
		text := p.Read(file)
		var compose struct {
			Services map[string]struct {
				Image string
				Ports []any
			}
		}
		if err := yaml.Unmarshal([]byte(text), &compose); err != nil {
			p.Leave("%s: it is no valid compose file", file)
			continue
		}
		all := slices.Sorted(maps.Keys(compose.Services))
		for _, name := range all {
			service := compose.Services[name]
			found := regexp.MustCompile(`(?m)^\s+["']?` + regexp.QuoteMeta(name) + `["']?\s*:`).FindStringIndex(text)
			offset := -1
			if found != nil {
				offset = found[0] + strings.IndexFunc(text[found[0]:], func(r rune) bool { return r > ' ' })
			}
			u := project.Unit{
				Kind:      plan.Service,
				Name:      name,
				From:      project.At(file, text, offset) + ": the service " + name,
				Dir:       project.AsDir(dir),
				Run:       format.Typed([]string{"docker", "compose", "up", name}),
				Commented: true,
			}
			if len(p.EnvFiles) > 0 {
				u.Uses = composeUses(text)
			}
			if service.Image != "" {
				u.From += ", image " + service.Image
			}
			if len(service.Ports) > 0 {
				mapped := strings.Split(fmt.Sprint(service.Ports[0]), ":")
				u.Port, _ = strconv.Atoi(mapped[max(len(mapped)-2, 0)])
			}
			p.Add(u)
		}
		if len(all) > 0 {
			p.Note(
				"%s: %s: only as comments, because they need a container engine",
				path.Base(file),
				strings.Join(all, ", "),
			)
		}
	}
}
