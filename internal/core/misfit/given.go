package misfit

import (
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/rx"
)

// given is a kind of names that one file gives to things, and that others use as words in strings, commands, pages or
// settings, where no compiler looks. A row is all that is known of a kind; a test walks the rows.
type given struct {
	what  string           // as a person calls it, before the name
	in    []*lang.Language // of the files that give names; nil for all
	at    *rx.Expr         // what the paths of these files contain; nil for all
	gives *rx.Expr         // matches in a line that gives names; its groups are the names
	takes *rx.Expr         // matches a line that takes a name away: the name, and what it is called now; or nil
	used  []*lang.Language // of the files that use names; nil for all
	uses  string           // what a line that uses a name matches: NAME is the name; [\q] is a quote
	only  condition        // on what stands beside the name
}

// condition says which lines with a name use it.
type condition uint8

const (
	owned      condition = 1 << iota // those that also name the file that gives it, or the file's directory
	fallback                         // those that have no other value for a name that is not set
	ofSettings                       // for names that many things have, those that speak of settings before it
)

// Languages of files in which names are given and used.
var (
	inCode = []*lang.Language{lang.Go, lang.Python, lang.JavaScript, lang.TypeScript, lang.TSX, lang.Vue, lang.Java,
		lang.Kotlin, lang.CSharp, lang.Scala, lang.Groovy, lang.C, lang.CPlusPlus, lang.ObjectiveC, lang.Rust,
		lang.Ruby,
		lang.PHP, lang.Swift, lang.Dart, lang.Lua, lang.Shell, lang.Pages}
	inScripts  = []*lang.Language{lang.JavaScript, lang.TypeScript, lang.TSX, lang.Vue}
	inPages    = append([]*lang.Language{lang.HTML, lang.Pages}, inScripts...)
	inStyles   = []*lang.Language{lang.CSS, lang.Less}
	inSettings = []*lang.Language{lang.JSON, lang.YAML, lang.TOML, lang.INI, lang.Properties, lang.Env}
	inCommands = []*lang.Language{lang.Shell, lang.Make, lang.YAML, lang.Dockerfile, lang.JSON, lang.Markdown}
)

// verb matches what stands before the path of a route that is given.
const verb = `\b(?:route|get|post|put|delete|patch|path|re_path|url|handle|HandleFunc|Handle|all|MapGet|MapPost|` +
	`GetMapping|PostMapping|RequestMapping|add_url_rule|Get|Post|Put|Delete)`

// givens is the table of them.
var givens = []given{
	{"environment variable",
		[]*lang.Language{lang.Env, lang.Dockerfile, lang.Shell, lang.YAML, lang.Make}, nil,
		rx.New(`^\s*(?:- |ENV |ARG |export )?\s*["']?([A-Z][A-Z0-9]*_[A-Z0-9_]+)["']?\s*[:=]`), nil,
		append([]*lang.Language{lang.YAML, lang.Dockerfile, lang.Make}, inCode...),
		`(?:\$\{?|env\w*\W{1,3}|env\.|ENV\W{1,3}|Variable\([\q]|getenv\W{1,2}|Getenv\([\q]|var\([\q]|var_os\([\q]|` +
			`get\([\q])NAME`, fallback},
	{"key", inSettings, nil, rx.New(`^\s*(?:-\s+)?"?([A-Za-z_][\w-]{3,})"?\s*[:=]`), nil, inCode,
		`[\q:]NAME[\q]|\$\{?NAME|\{\{\s*[\w.]*NAME\s*\}\}|(?i:config|settings|conf|cfg|options|env)(?:\.|\(\)\.|` +
			`->|::)(?:\w+(?:\.|->|::))*NAME`, fallback | ofSettings},
	{"key", []*lang.Language{lang.Properties, lang.INI, lang.JSON, lang.YAML}, nil,
		rx.New(`^\s*"?([\w-]+(?:\.[\w-]+)+)"?\s*[:=]`), nil, slices.Concat(inPages, inCode),
		`[\q]NAME[\q]|\$\{NAME[:}]`, fallback | ofSettings},
	{"section", []*lang.Language{lang.INI, lang.TOML}, nil, rx.New(`^\s*\[+([\w. -]+)\]+`), nil,
		inCode, `[\[(][\q]NAME[\q]`, 0},
	{"text",
		[]*lang.Language{lang.JSON, lang.YAML, lang.Properties, lang.TypeScript, lang.JavaScript},
		rx.New(`(?i)(^|/)(locales?|i18n|lang|languages|translations|messages|texts)[/._-]`),
		rx.New(`^\s*["']?([A-Za-z][\w.-]*)["']?\s*[:=]`), nil, slices.Concat(inPages, inCode),
		`[\q](?:[\w-]+\.)*NAME[\q]`, 0},
	{"CSS class", inStyles, nil, rx.New(`\.([A-Za-z_][\w-]*)[^;]*[{,]\s*(?:\}|[^;]*[;}].*)?$`),
		nil, slices.Concat(inPages, []*lang.Language{lang.Ruby, lang.PHP}),
		`(?i:class\w*)\b[^<>]*[\q\s]NAME[\q\s]|[\q]\.NAME\b`, 0},
	{"id", inPages, nil, rx.New(`\bid=["']([A-Za-z][\w-]*)["']`), nil,
		slices.Concat(inPages, inStyles),
		`ById\([\q]NAME[\q]|[^\w&]#NAME|#NAME[\q]|^#NAME|\b(?:for|htmlFor|form|list|headers|` +
			`aria-\w+)=[\q](?:[\w-]+ )*NAME[\q ]`, 0},
	{"test id", inPages, nil, rx.New(`\bdata-(?:testid|test-id|test|cy)=["']([\w:-]+)["']`), nil,
		inScripts, `[\q]NAME[\q]|=NAME\]`, 0},
	{"path", inCode, nil,
		rx.New(verb + `\w*\(\s*["'](/?[a-z][\w-]*(?:/[\w-]+)*/?|(?:/[\w-]+)+/?)["']`), nil,
		append([]*lang.Language{lang.HTML, lang.YAML, lang.Dockerfile, lang.Make}, inCode...),
		`[\q]/?NAME[\q?]|(?:localhost|127\.0\.0\.1)(?::\d+)?/?NAME(?:[\s\q?]|$)|\$\{?\w+\}?/?NAME[\q?\s]`,
		0},
	{"name of a route", inCode, nil,
		rx.New(`\b(?:path|url|re_path|route|Route)\(.*\bname=["']([\w:-]+)["']|` +
			`^\s*name: ["']([\w-]+)["'],?\s*(?:path:|$)`),
		nil, append([]*lang.Language{lang.HTML}, inCode...),
		`(?:\burl|reverse\w*\(|redirect\(|url_for\(|_path\(|\bname:)\s*[\q](?:\w+:)?NAME[\q]`, 0},
	{"port", nil, nil,
		rx.New(`(?i)\bport\b["']?\s*[:=]{1,2}\s*["']?(\d{2,5})\b|^EXPOSE\s+(\d+)|\blisten\w*\(["']?:?(\d{4,5})`),
		nil, nil,
		`(?:localhost|127\.0\.0\.1|0\.0\.0\.0):NAME|[\q\s]\d+:NAME[\q\]\s]|(?i:port)\w*[\q]?\s*[:=]\s*NAME`, 0},
	{"flag",
		[]*lang.Language{lang.Python, lang.JavaScript, lang.TypeScript, lang.Shell, lang.Ruby, lang.PHP, lang.Rust},
		nil,
		rx.New(`(?:add_argument|option|Option|opts?\.on|addOption)\(\s*["'](?:-\w["', ]+)*(--[\w-]+)|` +
			`^\s*(--[\w-]+)\)`),
		nil, inCommands, `NAME`, owned},
	{"flag", []*lang.Language{lang.Go}, nil,
		rx.New(`\b[fF]lags?\(?\)?\.\w+\((?:&[\w.]+,\s*)?"([\w-]+)"`), nil, inCommands,
		`\s--?NAME`, owned},
	{"target", []*lang.Language{lang.Make}, nil, rx.New(`^([\w][\w.-]*)\s*:(?:[^=]|$)`), nil,
		inCommands, `\bmake\s+(?:-\w+\s+|-C\s*\S+\s+|[\w=.-]+\s+)*NAME`, 0},
	{"script", []*lang.Language{lang.JSON}, rx.New(`package\.json$`),
		rx.New(`^\s*"([\w:.-]+)":\s*"`), nil, inCommands,
		`\b(?:npm run(?:-script)?|yarn(?: run)?|pnpm(?: run)?|bun run)\s+NAME`, 0},
	{"column", []*lang.Language{lang.SQL}, nil,
		rx.New(`(?i)(?:^|[(,])\s*["\x60]?(\w+)["\x60]?\s+(?:\w*int(?:eger)?|serial|\w*text|\w*char|date\w*|` +
			`time\w*|bool\w*|numeric|decimal|real|double|float|uuid|json\w*|blob|bytea)\b`),
		rx.New(`(?i)\brename\s+column\s+["\x60]?(\w+)["\x60]?\s+to\s+["\x60]?(\w+)|` +
			`\bdrop\s+column\s+(?:if\s+exists\s+)?["\x60]?(\w+)`),
		append([]*lang.Language{lang.SQL}, inCode...), inQuery, 0},
	{"table", []*lang.Language{lang.SQL}, nil,
		rx.New(`(?i)\bcreate\s+(?:table|view)\s+(?:if\s+not\s+exists\s+)?(?:\w+\.)?["\x60]?(\w+)`),
		rx.New(`(?i)\balter\s+table\s+["\x60]?(\w+)["\x60]?\s+rename\s+to\s+["\x60]?(\w+)|\bdrop\s+(?:table|` +
			`view)\s+(?:if\s+exists\s+)?["\x60]?(\w+)`),
		append([]*lang.Language{lang.SQL}, inCode...), inQuery, 0},
	{"column",
		[]*lang.Language{lang.Python, lang.Ruby, lang.PHP, lang.JavaScript, lang.TypeScript},
		rx.New(`migrat`),
		rx.New(`\b(?:t\.\w+|add_column|Column|addColumn)\(?\s*(?::\w+,\s*)?[:"'](\w+)`),
		rx.New(`\brename_?[cC]olumn\(?\s*[:"']\w+["']?,\s*[:"'](\w+)["']?,\s*[:"'](\w+)|\b(?:remove|` +
			`drop)_?[cC]olumn\(?\s*[:"']\w+["']?,\s*[:"'](\w+)`),
		inCode, `[:\q.]NAME|\bNAME:\s`, 0},
	{"alias", []*lang.Language{lang.JSON, lang.JavaScript, lang.TypeScript},
		rx.New(`(config\.\w+|package\.json)$`), rx.New(`^\s*["']([@~#][\w/-]*)(?:/\*)?["']\s*:`),
		nil, inScripts, `(?:from|import|require\(|import\()\s*[\q]NAME[/\q]`, 0},
	{"namespace", []*lang.Language{lang.CSharp, lang.PHP}, nil,
		rx.New(`^\s*namespace\s+([\w.\\]+)`), nil, []*lang.Language{lang.CSharp, lang.PHP},
		`^\s*(?:using|use)\s+(?:static\s+)?NAME[\s;.\\]`, 0},
	{"feature", []*lang.Language{lang.TOML}, rx.New(`Cargo\.toml$`), rx.New(`^([\w-]+)\s*=\s*\[`),
		nil, []*lang.Language{lang.Rust}, `feature\s*=\s*"NAME"`, 0},
	{"event", inCode, nil,
		rx.New(`\.(?:emit|dispatch|publish|trigger|broadcast)\(\s*["']([\w:./-]+)["']`), nil, inCode,
		`\.(?:on|once|addListener|addEventListener|subscribe|listen)\(\s*[\q]NAME[\q]`, 0},
	{"exception", inCode, nil, rx.New(`\b(?:raise|throw new|throw)\s+(?:\w+\.)?([A-Z]\w+)`), nil,
		inCode, `\b(?:except|catch|rescue)\b.*\bNAME`, 0},
	{"variable", []*lang.Language{lang.HCL}, nil, rx.New(`^variable\s+"(\w+)"`), nil,
		[]*lang.Language{lang.HCL}, `\bvar\.NAME`, 0},
	{"module", []*lang.Language{lang.HCL}, nil, rx.New(`^module\s+"(\w+)"`), nil,
		[]*lang.Language{lang.HCL}, `\bmodule\.NAME`, 0},
	{"output", []*lang.Language{lang.HCL}, nil, rx.New(`^output\s+"(\w+)"`), nil,
		[]*lang.Language{lang.HCL}, `\bmodule\.\w+\.NAME`, 0},
	{"resource", []*lang.Language{lang.HCL}, nil, rx.New(`^(?:resource|data)\s+"\w+"\s+"(\w+)"`),
		nil, []*lang.Language{lang.HCL}, `\b\w+_\w+\.NAME`, 0},
	{"local value", []*lang.Language{lang.HCL}, nil, rx.New(`^\s+(\w+)\s*=`), nil,
		[]*lang.Language{lang.HCL}, `\blocal\.NAME`, 0},
	{"name", []*lang.Language{lang.YAML}, nil,
		rx.New(`^\s+name:\s*["']?([\w.-]*-[\w.-]+)["']?\s*$`), nil,
		[]*lang.Language{lang.YAML, lang.HCL},
		`(?i)(?:ref|secret|configmap|claim|service|account|needs|depends)\w*:.*NAME|^\s+(?:secret|configMap|claim|` +
			`service|serviceAccount)Name:\s*[\q]?NAME`, 0},
	{"service", []*lang.Language{lang.YAML}, rx.New(`compose[\w.-]*$`),
		rx.New(`^  ([a-z][\w-]*):\s*$`), nil, nil,
		`(?:depends_on|needs):.*NAME|://(?:\w+(?::\w+)?@)?NAME[:/]|compose\s+(?:exec|run|up|logs|` +
			`restart)\s+(?:-\S+\s+)*NAME`, 0},
	{"job", []*lang.Language{lang.YAML}, rx.New(`workflows|-ci\.|pipeline`),
		rx.New(`^(?:  )?([a-z][\w-]*):\s*$`), nil, []*lang.Language{lang.YAML},
		`\bneeds:.*NAME`, 0},
	{"field", []*lang.Language{lang.GraphQL}, nil, rx.New(`^\s+(\w+)(?:\(.*\))?\s*:`), nil,
		append([]*lang.Language{lang.GraphQL}, inCode...), `\{[^}]*\bNAME\b[^=:(]*$`, 0},
	{"field", []*lang.Language{lang.Proto}, nil,
		rx.New(`^\s*(?:optional |repeated |required )?[\w.<>, ]+\s(\w+)\s*=\s*\d+`), nil, inCode,
		`\.NAME|\bNAME=`, 0},
}

// inQuery is a use of a column or a table: in a query, or in what a mapper is told.
const inQuery = `(?i:\b(?:select|insert|update|delete|from|where|join|set|into|order by|group by|table|returning` +
	`|values)\b.*)NAME|` +
	`NAME(?i:.*\b(?:from|where|=\s*\?|=\s*\$\d|asc|desc)\b)`

// givenBy reports whether a file may give names of the kind.
func (g *given) givenBy(p string) bool { return !writtenElsewhere(p) && g.givenIn(lang.Of(p), p) }

func (g *given) givenIn(l *lang.Language, p string) bool {
	return (g.in == nil && l.IsKnown() && !l.Is(lang.Prose) || slices.Contains(g.in, l)) &&
		(g.at == nil || g.at.MatchString(p))
}

// givensOf lists the kinds of names that a file may give.
func givensOf(p string) (out []*given) {
	if writtenElsewhere(p) {
		return nil
	}
	l := lang.Of(p)
	for i := range givens {
		if g := &givens[i]; g.givenIn(l, p) {
			out = append(out, g)
		}
	}
	return out
}

// writtenElsewhere reports whether a file is no part of what the project's people write.
func writtenElsewhere(p string) bool {
	return locks.MatchString(path.Base(p)) || borrowed.MatchString(p)
}

// borrowed matches the paths of what is no part of the project's own: data of tests, and what others wrote.
var borrowed = rx.New(`(^|/)(testdata|fixtures|__snapshots__|vendor|node_modules|third_party)/`)

// locks matches the names of lock files, which programs write.
var locks = rx.New(`(^|[-._])lock(file)?([-.]|$)`)

// usedBy reports whether a file may use names of the kind.
func (g *given) usedBy(p string) bool {
	l := lang.Of(p)
	return g.used == nil && l.IsKnown() && !l.Is(lang.Prose) || slices.Contains(g.used, l)
}

// names returns the names that a line gives.
func (g *given) names(line string) (out []string) {
	for _, m := range g.gives.FindAllStringSubmatch(strings.TrimRight(line, "\r\n"), -1) {
		for _, name := range m[1:] {
			if len(name) > 1 {
				out = append(out, name)
			}
		}
	}
	return out
}

// gone returns the name that a line takes away, and its new one if the line tells it.
func (g *given) gone(line string) (name, now string) {
	if g.takes == nil {
		return "", ""
	}
	m := g.takes.FindStringSubmatch(line)
	if m == nil {
		return "", ""
	}
	told := slices.DeleteFunc(slices.Clone(m[1:]), func(s string) bool { return s == "" })
	return told[0], strings.Join(told[1:], "")
}
