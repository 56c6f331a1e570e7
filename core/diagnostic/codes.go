package diagnostic

// Code is the stable name of a kind of diagnostic. Its meaning never changes.
type Code string

// The codes, by what they are about: 10 the file, 11 keys, 12 values,
// 13 references, 14 triggers, 15 permissions, 16 the service as a whole,
// 17 cases.
const (
	CodeSyntax       Code = "RM1001"
	CodeEncoding     Code = "RM1002"
	CodeEmpty        Code = "RM1003"
	CodeTooLarge     Code = "RM1004"
	CodeTooDeep      Code = "RM1005"
	CodeAnchor       Code = "RM1006"
	CodeTag          Code = "RM1007"
	CodeMergeKey     Code = "RM1008"
	CodeDocuments    Code = "RM1009"
	CodeDuplicateKey Code = "RM1010"
	CodeTab          Code = "RM1011"

	CodeUnknownKey Code = "RM1101"
	CodeMissingKey Code = "RM1102"
	CodeWrongKind  Code = "RM1103"
	CodeEmptyList  Code = "RM1104"
	CodeTwice      Code = "RM1105"
	CodeFormer     Code = "RM1106"

	CodeName      Code = "RM1201"
	CodeChoice    Code = "RM1202"
	CodeUnit      Code = "RM1203"
	CodeNotNumber Code = "RM1204"
	CodeRange     Code = "RM1205"
	CodeMultiple  Code = "RM1206"
	CodeSetting   Code = "RM1207"
	CodeTarget    Code = "RM1208"
	CodePath      Code = "RM1209"
	CodeVariable  Code = "RM1210"

	CodeUnknownReference Code = "RM1301"
	CodeReferenceForm    Code = "RM1302"
	CodeReferencePlace   Code = "RM1303"

	CodeRouteForm    Code = "RM1401"
	CodeCollision    Code = "RM1402"
	CodeOpenTo       Code = "RM1403"
	CodeCron         Code = "RM1404"
	CodeZone         Code = "RM1405"
	CodeTriggerKind  Code = "RM1406"
	CodeTriggerKey   Code = "RM1407"
	CodeWholeService Code = "RM1408"
	CodeCircle       Code = "RM1409"
	CodeNoTrigger    Code = "RM1410"

	CodePermissionForm Code = "RM1501"
	CodeWildcard       Code = "RM1502"
	CodeResourceKind   Code = "RM1503"
	CodeVerb           Code = "RM1504"
	CodeUnknownSecret  Code = "RM1505"

	CodeDuplicateFunction Code = "RM1601"
	CodeUnknownStage      Code = "RM1602"
	CodeStageOrder        Code = "RM1603"
	CodeCodeFolder        Code = "RM1604"
	CodeHandlerFile       Code = "RM1605"
	CodeTooMany           Code = "RM1606"
	CodeNoFunctions       Code = "RM1607"
	CodeOffer             Code = "RM1608"
	CodeWas               Code = "RM1609"
	CodeGate              Code = "RM1610"
	CodeNearlyRight       Code = "RM1611"

	CodeCaseSend       Code = "RM1701"
	CodeCaseExpression Code = "RM1702"
)

// Explanation explains a code, with a wrong and a right example.
type Explanation struct {
	Code   Code   `json:"code"`
	Title  string `json:"title"`
	Reason string `json:"why"`
	Wrong  string `json:"wrong"`
	Right  string `json:"right"`
}

// Explain returns the explanation of a code; false if there is no such code.
func Explain(code Code) (Explanation, bool) {
	for _, e := range Explanations() {
		if e.Code == code {
			return e, true
		}
	}
	return Explanation{}, false
}

// Explanations lists every code in order.
func Explanations() []Explanation {
	return []Explanation{
		{CodeSyntax, "not YAML", "The file is not valid YAML 1.2 from this location on.",
			"memory: [128 MiB", "memory: 128 MiB"},
		{CodeEncoding, "not UTF-8 text", "Manifests must be UTF-8 text without NUL characters.",
			"description: caf\\xe9", "description: café"},
		{CodeEmpty, "empty file", "A manifest must declare something.", "(nothing)", "function: warn"},
		{CodeTooLarge, "file too large", "A manifest can have up to 256 KiB.", "a file of 300 KiB",
			"split it into several functions"},
		{CodeTooDeep, "nested too deeply", "A manifest can nest up to 32 levels.", "[[[[…]]]]", "[a, b]"},
		{CodeAnchor, "anchor or alias",
			"Anchors and aliases hide the source of a value; use defaults and per_stage instead.", "env: &shared {A: x}",
			"defaults: {env: {A: x}}"},
		{CodeTag, "tag", "Tags are not allowed; each key determines the type of its value.", "memory: !!str 128", "memory: 128 MiB"},
		{CodeMergeKey, "merge key", "Merge keys are not allowed; use defaults and per_stage instead.", "<<: {A: x}",
			"defaults: {env: {A: x}}"},
		{CodeDocuments, "several documents", "A file must contain one document.", "function: a\n---\nfunction: b", "function: a"},
		{CodeDuplicateKey, "duplicate key", "A key can appear only once in a mapping; otherwise its value would be ambiguous.",
			"memory: 128 MiB\nmemory: 256 MiB", "memory: 256 MiB"},
		{CodeTab, "tab as indentation", "YAML indents with spaces.", "env:\n\tA: x", "env:\n  A: x"},
		{CodeUnknownKey, "unknown key", "Unknown keys are errors, so a misspelled key cannot be ignored silently.",
			"memroy: 128 MiB", "memory: 128 MiB"},
		{CodeMissingKey, "missing key", "This key is required and has no default.", "function: warn",
			"function: warn\nhandler: warn:run"},
		{CodeWrongKind, "wrong kind of value", "The key requires another kind of value: a string, a list or a mapping.",
			"secrets: sms_key", "secrets: [sms_key]"},
		{CodeEmptyList, "empty list",
			"An empty list allows nothing and expects nothing; remove the key, or add an item.",
			"triggers: {ask: {route: GET /a, open_to: []}}", "triggers: {ask: {route: GET /a, open_to: authenticated}}"},
		{CodeTwice, "duplicate entry",
			"The same target, secret or permission is listed twice, or target is set together with targets, so the value is ambiguous.", "permissions: [{allow: [read], resource: tables/a}, {allow: [read], resource: tables/a}]", "permissions: [{allow: [read], resource: tables/a}]"},
		{CodeFormer, "former key", "The key, value or field has a new name. `rudmar check --fix` rewrites it and keeps comments.",
			"about: Warns growers", "description: Warns growers"},
		{CodeName, "invalid name",
			"Names have 1 to 40 lowercase letters, digits and hyphens and start with a letter.",
			"function: Warn_1", "function: warn-1"},
		{CodeChoice, "invalid value", "The key accepts a fixed set of values.", "runtime: pyton", "runtime: python"},
		{CodeUnit, "missing or wrong unit", "A bare number does not state its unit.", "timeout: 10", "timeout: 10s"},
		{CodeNotNumber, "not a number", "The key requires a number.", "max_concurrency: many", "max_concurrency: 5"},
		{CodeRange, "out of range", "The value is outside the allowed range.", "timeout: 2d", "timeout: 15m"},
		{CodeMultiple, "not a multiple", "Memory must be a multiple of 16 MiB.", "memory: 100 MiB", "memory: 112 MiB"},
		{CodeSetting, "setting does not match its type",
			"A stage's value or a default must have the setting's type and be within its bounds.",
			"settings: {limit: {type: number, default: warm}}", "settings: {limit: {type: number, default: 0.5}}"},
		{CodeTarget, "invalid target", "A target is a platform and a region.", "target: north", "target: local/north"},
		{CodePath, "path outside the service", "Paths must stay inside the service's folder.", "code: ../../other", "code: ."},
		{CodeVariable, "invalid variable name",
			"Environment variables have letters, digits and _ and do not start with a digit; the platform sets PATH, HOME, LANG, TMPDIR and names that start with RUDMAR_.", "env: {PATH: /opt}", "env: {TOOLS_PATH: /opt}"},
		{CodeUnknownReference, "unknown reference", "The reference names something that is not declared.",
			"env: {L: \"${settings.limt}\"}", "env: {L: \"${settings.limit}\"}"},
		{CodeReferenceForm, "malformed reference", "A reference is ${kind.name}; write a literal ${ as $${.",
			"env: {L: \"${settings.}\"}", "env: {L: \"${settings.limit}\"}"},
		{CodeReferencePlace, "reference not allowed here", "Secrets are only allowed in env; other keys accept no reference.",
			"handler: ${settings.h}", "env: {H: \"${settings.h}\"}"},
		{CodeRouteForm, "malformed route",
			"A route is a method and a path with {name} parameters and, at the end, {rest...}.", "route: /stations",
			"route: GET /stations"},
		{CodeCollision, "colliding routes",
			"Two routes match the same request with equal rank, so the result would be ambiguous.",
			"GET /a/{x} and GET /a/{y}", "GET /a/{x} and GET /b/{y}"},
		{CodeOpenTo, "missing open_to", "Nothing is public by default: each route states who can call it.",
			"ask: {route: GET /a}", "ask: {route: GET /a, open_to: authenticated}"},
		{CodeCron, "malformed cron expression",
			"A cron expression has five fields: minute, hour, day of month, month, day of week.", "cron: \"*/10 * * *\"",
			"cron: \"*/10 * * * *\""},
		{CodeZone, "unknown time zone", "A zone must be a name of the IANA time zone database.", "zone: Oslo", "zone: Europe/Oslo"},
		{CodeTriggerKind, "trigger with no source or several",
			"A trigger has exactly one of route, cron, every, objects, queue and after_function.", "ask: {route: GET /a, every: 5m}",
			"ask: {route: GET /a, open_to: authenticated}"},
		{CodeTriggerKey, "key of another kind of trigger",
			"The key is not valid for this kind of trigger, or events has other values for it.",
			"triggers: {sweep: {every: 1h, zone: Europe/Oslo}}", "triggers: {sweep: {every: 1h}}"},
		{CodeWholeService, "unknown function in a trigger", "An after_function trigger names a function of this service.",
			"relay: {after_function: wran, events: [failed]}", "relay: {after_function: warn, events: [failed]}"},
		{CodeCircle, "cyclic functions",
			"A function that runs after itself, directly or through others, would never stop.",
			"triggers: {again: {after_function: warn, events: [failed]}}", "triggers: {ask: {route: GET /a, open_to: authenticated}}"},
		{CodeNoTrigger, "unknown trigger",
			"A stage changes a trigger that the function does not declare.",
			"per_stage: {trial: {triggers: {houlry: {enabled: false}}}}", "per_stage: {trial: {triggers: {nightly: {every: 1d}}}}"},
		{CodePermissionForm, "malformed permission", "A permission is allow: [verbs] and resource: kind/name or kind/name/path*.",
			"{allow: [read], resource: stations}", "{allow: [read], resource: tables/stations}"},
		{CodeWildcard, "wildcard", "A * alone as a verb or kind also permits what does not exist yet.",
			"{allow: [\"*\"], resource: tables/stations}", "{allow: [read], resource: tables/stations}"},
		{CodeResourceKind, "unknown kind of resource",
			"The platforms of the stages have no resources of this kind.", "{allow: [read], resource: table/stations}",
			"{allow: [read], resource: tables/stations}"},
		{CodeVerb, "unknown verb", "The platforms of the stages do not know this verb for this kind of resource.",
			"{allow: [raed], resource: tables/stations}", "{allow: [read], resource: tables/stations}"},
		{CodeUnknownSecret, "undeclared secret",
			"A permission names a secret that is not listed under secrets: Rudmar has no value for it, so someone must store one on the platform.", "{allow: [read], resource: secrets/sms_kye}", "{allow: [read], resource: secrets/sms_key}"},
		{CodeDuplicateFunction, "function declared twice", "Two files declare a function of the same name.",
			"function: warn in two files", "function: warn and function: warn-coast"},
		{CodeUnknownStage, "unknown stage", "The name is not one of the service's stages.", "per_stage: {prod: {memory: 256 MiB}}",
			"per_stage: {live: {memory: 256 MiB}}"},
		{CodeStageOrder, "stage order", "A stage is entered on a push, or after a stage above it.",
			"enter: {after: live} in the first stage", "enter: {when: push, branch: main}"},
		{CodeCodeFolder, "missing code folder", "code must name a folder of the repository.", "code: src", "code: ."},
		{CodeHandlerFile, "missing handler",
			"handler is file:function; the file must be in the code folder and define the function.",
			"handler: wran:run", "handler: warn:run"},
		{CodeTooMany, "too many functions", "A service can have up to 10,000 functions.", "10,001 functions", "two services"},
		{CodeNoFunctions, "no functions", "A service needs at least one function.", "rudmar.yaml alone",
			"functions/hello/function.yaml beside it"},
		{CodeOffer, "not supported by the platform", "The platform does not have this region, runtime or kind of trigger.",
			"target: local/nroth", "target: local/north"},
		{CodeWas, "invalid former name",
			"renamed_from names a function that still exists, the function itself, or one that another function names too.",
			"renamed_from: warn", "renamed_from: frost-alert"},
		{CodeGate, "gate that can never pass", "The gate checks cases or a stage that do not exist.",
			"gates: {cases: [nobody]}", "gates: {cases: all}"},
		{CodeNearlyRight, "misnamed file",
			"Manifests are named rudmar.yaml and function.yaml; cases end in .yaml and are in a folder cases beside a function.yaml. Other files are not read.", "functions/warn/function.yml", "functions/warn/function.yaml"},
		{CodeCaseSend, "invalid destination of a case",
			"A case sends to a route or a trigger of its function, or sends a payload.",
			"send: {trigger: nightly}", "send: {payload: {}}"},
		{CodeCaseExpression, "invalid expectation",
			"Expectations are CEL expressions over status, headers, body, logs, took, memory_peak and cold.",
			"expect: [\"status = 200\"]", "expect: [\"status == 200\"]"},
	}
}
