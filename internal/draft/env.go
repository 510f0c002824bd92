package draft

import (
	"path"
	"slices"
	"strings"

	"github.com/joho/godotenv"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/text/lazyregexp"
)

var (
	secretName = lazyregexp.New(
		`(?i)(?:^|_)(?:token|secret|passw(?:or)?d|pwd|api_?key|private_?key|access_?key|credentials?|dsn|` +
			`secret_?key\w*|auth_?key|salt)(?:_|$)`,
	)
	secretValue = lazyregexp.New(`^\w+://[^/\s:@]+:[^@\s]+@`)
)

// readEnvFiles finds files of variables, and variables in them whose values look like secrets.
func readEnvFiles(p *project.Project) {
	for _, dir := range p.Shallow {
		for _, name := range []string{".env.local", ".env"} {
			file := path.Join(dir, name)
			text := p.Read(file)
			if !p.Has(file) {
				continue
			}
			values, err := godotenv.Unmarshal(text)
			if err != nil {
				p.Leave("%s: a line is not NAME=value", file)
				continue
			}
			if dir == "." {
				p.EnvFiles = append(p.EnvFiles, name)
			}
			for name, value := range values {
				if _, set := p.Env[name]; !set && dir == "." {
					p.Env[name] = value
				}
				looks := secretName.MatchString(name) || secretValue.MatchString(value)
				if looks && !slices.Contains(p.Secret, name) {
					p.Secret = append(p.Secret, name)
				}
			}
		}
	}
	slices.Sort(p.Secret)
	if len(p.EnvFiles) > 0 {
		p.Note("[project] env_files from %s", strings.Join(p.EnvFiles, " and "))
	}
	if len(p.Secret) > 0 {
		p.Note("[project] secret: %s look like secrets", strings.Join(p.Secret, ", "))
	}
}
