package node

import (
	"omnivigil/internal/text/lazyregexp"
)

// outputFlags are the flags by which build tools are told where to write.
var outputFlags = []string{
	"--outDir", "--outdir", "--out-dir", "-outdir", "-d", "--dir", "--dist-dir", "--outfile", "--out-file", "-o",
	"--output", "--output-path", "--file", "--dest",
}

// tool is what is known of a program of the Node ecosystem.
type tool struct {
	role    role
	subs    map[string]role // by its first argument
	makes   string          // where it writes by default
	follows bool            // the phrases of its own watch mode are known
	slow    bool
	sources []string
	port    int // of its server for development, unless its command or its settings say otherwise
}

// webSources are what most tools read.
const webSources = "**/*.{js,mjs,cjs,jsx,ts,mts,cts,tsx,json,css,scss,sass,less,html,vue,svelte,astro,graphql}"

var typescript = []string{"**/*.{ts,mts,cts,tsx,json}"}

// tools are the programs that are known, in their usual form.
var tools = map[string]tool{
	"tsc":      {role: asCompiler, follows: true, sources: typescript},
	"esbuild":  {role: asCompiler, follows: true},
	"rollup":   {role: asCompiler, follows: true},
	"rolldown": {role: asCompiler, follows: true},
	"webpack": {
		role:    asCompiler,
		subs:    map[string]role{"serve": asReloader, "watch": asRecompiler},
		makes:   "dist",
		follows: true,
	},
	"rspack": {
		role:    asCompiler,
		subs:    map[string]role{"serve": asReloader, "dev": asReloader},
		makes:   "dist",
		follows: true,
	},
	"parcel": {
		role:    asReloader,
		subs:    map[string]role{"build": asCompiler, "watch": asRecompiler},
		makes:   "dist",
		follows: true,
	},
	"sass":        {role: asCompiler, follows: true, sources: []string{"**/*.{scss,sass}"}},
	"tailwindcss": {role: asCompiler, follows: true},
	"vite": {
		port:    5173,
		role:    asReloader,
		subs:    map[string]role{"build": asCompiler, "preview": asServer},
		makes:   "dist",
		follows: true,
	},
	"babel":   {role: asCompiler},
	"swc":     {role: asCompiler},
	"postcss": {role: asCompiler},
	"lessc":   {role: asCompiler},
	"tsup": {
		role:  asCompiler,
		makes: "dist",
	},
	"tsdown":  {role: asCompiler, makes: "dist"},
	"unbuild": {role: asCompiler, makes: "dist"},
	"ncc": {
		role:  asCompiler,
		makes: "dist",
	},
	"microbundle": {role: asCompiler, makes: "dist"},
	"bunchee":     {role: asCompiler, makes: "dist"},
	"next": {
		port:  3000,
		role:  asReloader,
		subs:  map[string]role{"build": asCompiler, "start": asServer, "lint": asCheck},
		makes: ".next",
	},
	"nuxt": {
		role:  asReloader,
		subs:  map[string]role{"build": asCompiler, "generate": asCompiler, "preview": asServer},
		makes: ".output",
	},
	"astro": {
		port:  4321,
		role:  asReloader,
		subs:  map[string]role{"build": asCompiler, "check": asCheck, "preview": asServer},
		makes: "dist",
	},
	"ng": {
		subs:  map[string]role{"serve": asReloader, "build": asCompiler, "test": asTests, "lint": asCheck},
		makes: "dist",
	},
	"react-scripts": {
		subs:  map[string]role{"start": asReloader, "build": asCompiler, "test": asTests},
		makes: "build",
	},
	"vue-cli-service": {
		subs:  map[string]role{"serve": asReloader, "build": asCompiler, "lint": asCheck},
		makes: "dist",
	},
	"gatsby": {
		subs:  map[string]role{"develop": asReloader, "build": asCompiler, "serve": asServer},
		makes: "public",
	},
	"nest":               {subs: map[string]role{"start": asServer, "build": asCompiler}, makes: "dist"},
	"remix":              {subs: map[string]role{"dev": asReloader, "build": asCompiler}, makes: "build"},
	"docusaurus":         {subs: map[string]role{"start": asReloader, "build": asCompiler}, makes: "build"},
	"storybook":          {subs: map[string]role{"dev": asReloader, "build": asCompiler}, makes: "storybook-static"},
	"http-server":        {role: asReloader},
	"serve":              {role: asReloader},
	"json-server":        {role: asReloader},
	"webpack-dev-server": {role: asReloader},

	"jest":            {role: asTests},
	"vitest":          {role: asTests},
	"mocha":           {role: asTests},
	"ava":             {role: asTests},
	"tap":             {role: asTests},
	"jasmine":         {role: asTests},
	"karma":           {role: asTests, slow: true},
	"uvu":             {role: asTests},
	"tape":            {role: asTests},
	"lab":             {role: asTests},
	"qunit":           {role: asTests},
	"borp":            {role: asTests},
	"tst":             {role: asTests},
	"tsd":             {role: asTests},
	"vows":            {role: asTests},
	"nodeunit":        {role: asTests},
	"expresso":        {role: asTests},
	"web-test-runner": {role: asTests, slow: true},
	"wtr": {
		role: asTests,
		slow: true,
	},
	"cypress":    {role: asTests, slow: true},
	"playwright": {role: asTests, slow: true},
	"pytest":     {role: asTests},
	"prove":      {role: asTests},
	"rspec":      {role: asTests},
	"phpunit":    {role: asTests},
	"ctest":      {role: asTests},

	"eslint":        {role: asCheck},
	"stylelint":     {role: asCheck},
	"oxlint":        {role: asCheck},
	"standard":      {role: asCheck},
	"xo":            {role: asCheck},
	"tslint":        {role: asCheck},
	"biome":         {role: asCheck},
	"prettier":      {role: asCheck},
	"jshint":        {role: asCheck},
	"vue-tsc":       {role: asCheck},
	"svelte-check":  {role: asCheck},
	"flow":          {role: asCheck},
	"knip":          {role: asCheck},
	"cspell":        {role: asCheck},
	"markdownlint":  {role: asCheck},
	"mypy":          {role: asCheck},
	"ruff":          {role: asCheck},
	"flake8":        {role: asCheck},
	"pylint":        {role: asCheck},
	"rubocop":       {role: asCheck},
	"golangci-lint": {role: asCheck},
	"shellcheck":    {role: asCheck},
	"cppcheck":      {role: asCheck},
	"staticcheck":   {role: asCheck},
}

// interpreters run a program from its source.
var interpreters = []string{"node", "nodejs", "tsx", "ts-node", "bun", "deno", "babel-node", "esno", "jiti", "swc-node"}

var sourceFile = lazyregexp.New(`\.(?:[cm]?[jt]sx?)$`)

// again are the flags by which tools and interpreters repeat their work when files change.
var again = []string{"--watch", "-w", "--watchAll", "--watch-all", "--hot", "--ui", "--watch-path", "--reload"}
