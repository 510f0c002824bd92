package draft

import (
	"encoding/xml"
	"path"
	"slices"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/lazyregexp"
)

// pom is the part of a pom.xml that is read.
type pom struct {
	ArtifactID   string          `xml:"artifactId"`
	Packaging    string          `xml:"packaging"`
	Modules      []string        `xml:"modules>module"`
	Dependencies []pomDependency `xml:"dependencies>dependency"`
	Plugins      []struct {
		ArtifactID string `xml:"artifactId"`
	} `xml:"build>plugins>plugin"`
}

type pomDependency struct {
	Scope string `xml:"scope"`
}

func (m pom) uses(plugin string) bool {
	for _, p := range m.Plugins {
		if p.ArtifactID == plugin {
			return true
		}
	}
	return false
}

var (
	javaMain   = lazyregexp.New(`(?m)\bstatic\s+(?:final\s+)?void\s+main\s*\(|^fun main\(`)
	javaServes = lazyregexp.New(
		`ServerSocket|HttpServer\.create|SpringApplication\.run|\.listen\(|Javalin\.create|Undertow\.builder|` +
			`new Server\(|ServerBuilder`,
	)
	javaPackage = lazyregexp.New(`(?m)^package\s+([\w.]+)`)
	pomStart    = lazyregexp.New(`<artifactId>`)
	serverPort  = lazyregexp.New(`(?m)^\s*(?:server\.port\s*=|port:)\s*(\d+)`)
)

// java is a Maven or Gradle project.
type java struct {
	*project.Project
	dir, at string
	watch   []string
	mains   []javaProgram // that serve
	tested  string        // a file of tests
}

// javaProgram is a class that can be run.
type javaProgram struct {
	at, module, class, text string
}

func (j *java) read() {
	j.Files(j.dir, func(name string) {
		switch text := j.Project.Read(name); {
		case strings.Contains(name, "src/test/"):
			if j.tested == "" && strings.Contains(text, "@Test") {
				j.tested = name
			}
		case javaMain.MatchString(text) && javaServes.MatchString(text) && !project.IsExample(name):
			class := strings.TrimSuffix(path.Base(name), path.Ext(name))
			if path.Ext(name) == ".kt" {
				class += "Kt"
			}
			if m := javaPackage.FindStringSubmatch(text); m != nil {
				class = m[1] + "." + class
			}
			module, _, _ := strings.Cut(name, "src/main/")
			main := javaProgram{project.AtMatch(name, text, javaMain), path.Clean(module), class, text}
			j.mains = append(j.mains, main)
		}
	}, ".java", ".kt")
	j.watch = project.In(j.dir, "**/src/main/**")
}

// port returns the port in a Spring application's properties, or in the source.
func (j *java) port(of javaProgram) int {
	for _, name := range []string{"application.properties", "application.yml", "application.yaml"} {
		settings := j.Project.Read(path.Join(of.module, "src/main/resources", name))
		if m := serverPort.FindStringSubmatch(settings); m != nil {
			return project.PortOf("PORT=" + m[1])
		}
	}
	if port := project.PortOf(of.text); port != 0 {
		return port
	}
	if strings.Contains(of.text, "SpringApplication.run") {
		return 8080
	}
	return 0
}

// service returns the unit of a program that serves, without its command.
func (j *java) service(of javaProgram) project.Unit {
	u := project.Unit{
		Kind:  plan.Service,
		Name:  strings.ToLower(of.class[strings.LastIndexByte(of.class, '.')+1:]),
		Dir:   project.AsDir(j.dir),
		From:  of.at + ": it serves",
		Guess: "it keeps running",
	}
	u.Port = j.port(of)
	u.Sure = u.Port != 0
	return u
}

// addCompiler adds the task that compiles, if there are sources, and returns its name.
func (j *java) addCompiler(run string, files, ignore []string, alone bool) string {
	if !j.HasSources(j.dir, ".java", ".kt", ".groovy") {
		return ""
	}
	return j.Add(project.Unit{
		Kind:   plan.Task,
		Name:   project.Named(j.dir, "compile"),
		Dir:    project.AsDir(j.dir),
		From:   j.at,
		Run:    run,
		Watch:  append(slices.Clone(j.watch), files...),
		Ignore: ignore,
		Alone:  alone,
	})
}

// addTests adds the suite, if there are tests.
func (j *java) addTests(run string, files, ignore, needs []string) {
	if j.tested == "" {
		return
	}
	j.Add(project.Unit{
		Kind:   plan.Suite,
		Name:   project.Named(j.dir, "test"),
		Dir:    project.AsDir(j.dir),
		From:   j.at + ", and " + j.tested,
		Run:    run,
		Needs:  needs,
		Watch:  append(project.In(j.dir, "**/src/**"), files...),
		Ignore: ignore,
	})
}

// tool returns the project's own copy of a build tool, if there is one.
func (j *java) tool(name, own string) string {
	if j.Has(path.Join(j.dir, own)) {
		return "./" + own
	}
	return name
}

// readMaven finds the tests and servers of Maven projects.
func readMaven(p *project.Project) {
	for _, dir := range p.Places("pom.xml") {
		file := path.Join(dir, "pom.xml")
		text := p.Read(file)
		var m pom
		if err := xml.Unmarshal([]byte(text), &m); err != nil {
			p.Leave("%s: it could not be read: %v", file, err)
			continue
		}
		j := &java{Project: p, dir: dir, at: project.AtMatch(file, text, pomStart)}
		j.read()
		mvn, ignore := j.tool("mvn", "mvnw"), project.In(dir, "**/target/**")
		poms := append(project.In(dir, "**/pom.xml"),
			p.Existing(dir, ".mvn/maven.config", ".mvn/jvm.config", ".mvn/extensions.xml")...)
		var needs []string // two of them at a time would write the same classes
		if compile := j.addCompiler(mvn+" -B -q compile", poms, ignore, true); compile != "" {
			needs = []string{compile}
			for _, program := range j.mains {
				j.mavenService(program, m, mvn, compile, poms)
			}
		}
		j.addTests(mvn+" -B test", poms, ignore, needs)
		if len(m.Modules) > 0 {
			p.Note("%s: one build for its modules %s", file, strings.Join(m.Modules, ", "))
		}
	}
}

// mavenService adds a server. Without other libraries it is started from the classes, otherwise by a plugin.
func (j *java) mavenService(of javaProgram, root pom, mvn, compile string, poms []string) {
	m := root
	if of.module != j.dir {
		xml.Unmarshal([]byte(j.Project.Read(path.Join(of.module, "pom.xml"))), &m)
	}
	u := j.service(of)
	within := ""
	if of.module != j.dir {
		within = " -pl " + format.Quoted(strings.TrimPrefix(of.module, j.dir+"/")) + " -am"
	}
	libraries := slices.ContainsFunc(m.Dependencies, func(d pomDependency) bool { return d.Scope != "test" })
	switch {
	case m.uses("spring-boot-maven-plugin") || root.uses("spring-boot-maven-plugin"):
		u.Run = mvn + " -B -q" + within + " spring-boot:run"
		u.Watch, u.Ignore = append(slices.Clone(j.watch), poms...), project.In(j.dir, "**/target/**")
		u.Needs = []string{compile}
	case m.uses("quarkus-maven-plugin"):
		u.Run, u.Sure = mvn+" -B"+within+" quarkus:dev", false
		u.Guess = "it picks up changes by itself, so nothing restarts it"
	case libraries:
		u.Run = mvn + " -B -q" + within + " exec:java -Dexec.mainClass=" + format.Quoted(of.class)
		u.Watch, u.Ignore = append(slices.Clone(j.watch), poms...), project.In(j.dir, "**/target/**")
		u.Needs = []string{compile}
	default:
		classes := path.Join(strings.TrimPrefix(strings.TrimPrefix(of.module, j.dir), "/"), "target/classes")
		u.Run = format.Typed([]string{"java", "-cp", classes, of.class})
		u.WaitFor(compile)
	}
	j.AddService(u, of.at)
}

var (
	gradleApp = lazyregexp.New(
		`(?m)^\s*(?:id[ (]*["']|apply plugin: *["'])?(application|org\.springframework\.boot)\b`,
	)
	gradlePlugin = lazyregexp.New(`(?m)^\s*(?:plugins\b|apply plugin|id[ (])`)
)

// readGradle finds the tests and servers of Gradle projects.
func readGradle(p *project.Project) {
	for _, dir := range p.Places("settings.gradle", "settings.gradle.kts", "build.gradle", "build.gradle.kts") {
		file := p.FirstIn(dir, "build.gradle", "build.gradle.kts", "settings.gradle", "settings.gradle.kts")
		j := &java{Project: p, dir: dir, at: project.AtMatch(file, p.Read(file), gradlePlugin)}
		j.read()
		gradle := j.tool("gradle", "gradlew") + " -q --console=plain"
		files := project.In(dir, "**/*.{gradle,gradle.kts}", "gradle.properties")
		ignore := project.In(dir, "**/build/**", ".gradle/**")
		if compile := j.addCompiler(gradle+" classes", files, ignore, false); compile != "" {
			for _, program := range j.mains {
				j.gradleService(program, gradle, compile, append(slices.Clone(j.watch), files...), ignore)
			}
		}
		j.addTests(gradle+" test", files, ignore, nil)
	}
}

// gradleService adds a server, if its build script has a task for it.
func (j *java) gradleService(of javaProgram, gradle, compile string, sources, ignore []string) {
	script := j.Project.Read(j.FirstIn(of.module, "build.gradle", "build.gradle.kts"))
	by := gradleApp.FindStringSubmatch(script)
	if by == nil {
		j.Leave("%s: nothing in its build script runs it", of.at)
		return
	}
	task := map[string]string{"application": "run", "org.springframework.boot": "bootRun"}[by[1]]
	if within := strings.TrimPrefix(of.module, strings.TrimPrefix(j.dir+"/", "./")); of.module != j.dir {
		task = ":" + strings.ReplaceAll(within, "/", ":") + ":" + task
	}
	u := j.service(of)
	u.Run, u.Watch, u.Ignore, u.Needs = gradle+" "+task, sources, ignore, []string{compile}
	j.AddService(u, of.at)
}
