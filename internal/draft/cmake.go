package draft

import (
	"path"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
)

var (
	cmakeProject = lazyregexp.New(`(?mi)^\s*project\s*\(`)
	cmakeTests   = lazyregexp.New(`(?mi)^\s*(?:enable_testing|add_test|include\s*\(\s*CTest|gtest_discover_tests)\b`)
	cmakeProgram = lazyregexp.New(`(?mi)^\s*add_executable\s*\(\s*([\w.-]+)\s+([^)]*)\)`)
	cServes      = lazyregexp.New(`\blisten\s*\(|\basync_accept\b|acceptor|\bmg_http_listen\b|\bevhttp_bind|uv_listen`)
)

// cSources are what C and C++ programs are built from.
const cSources = "**/*.{c,h,cc,cpp,cxx,hpp,hh,hxx,ipp,inl,in,s,S}"

// readCMake finds the programs and tests of CMake projects.
func readCMake(p *project.Project) {
	for _, dir := range p.Places("CMakeLists.txt") {
		file := path.Join(dir, "CMakeLists.txt")
		text := p.Read(file)
		if !cmakeProject.MatchString(text) {
			p.Leave("%s: it has no project()", file)
			continue
		}
		whole := ""
		p.Files(dir, func(name string) {
			if path.Base(name) == "CMakeLists.txt" {
				whole += p.Read(name) + "\n"
			}
		}, ".txt")
		lists := project.In(dir, "**/CMakeLists.txt", "**/*.cmake")
		out := "build"
		if p.HasSources(path.Join(dir, "build"), ".c", ".cc", ".cpp", ".h", ".cmake", ".txt") &&
			!p.Has(path.Join(dir, "build/CMakeCache.txt")) {
			out = "cmake-build"
		}
		build := p.Add(project.Unit{
			Kind:   plan.Task,
			Name:   project.Named(dir, "build"),
			Dir:    project.AsDir(dir),
			From:   project.AtMatch(file, text, cmakeProject),
			Run:    "cmake --build " + out,
			Watch:  append(project.In(dir, cSources), lists...),
			Ignore: project.In(dir, out+"/**"),
			Setup: &project.Step{
				Run:     "cmake -S . -B " + out,
				Dir:     dir,
				Inputs:  project.In(dir, "CMakeLists.txt"),
				Outputs: project.In(dir, out+"/CMakeCache.txt"),
			},
		})
		for _, m := range cmakeProgram.FindAllStringSubmatch(text, -1) {
			for source := range strings.FieldsSeq(m[2]) {
				source = path.Join(dir, source)
				if code := p.Read(source); cServes.MatchString(code) {
					u := project.Unit{
						Kind:   plan.Service,
						Name:   m[1],
						Dir:    project.AsDir(dir),
						From:   project.AtMatch(source, code, cServes) + ": it listens",
						Run:    "./" + path.Join(out, m[1]),
						Manual: project.IsExample(source),
						Guess:  "it keeps running",
					}
					u.Port = project.PortOf(code)
					u.Sure = u.Port != 0
					u.WaitFor(build)
					p.AddService(u, source)
					break
				}
			}
		}
		if cmakeTests.MatchString(whole) {
			u := project.Unit{
				Kind: plan.Suite,
				Name: project.Named(dir, "test"),
				Dir:  project.AsDir(dir),
				From: project.AtMatch(file, text, cmakeTests),
				Run:  "ctest --test-dir " + out + " --output-on-failure",
			}
			u.WaitFor(build)
			p.Add(u)
		}
	}
}
