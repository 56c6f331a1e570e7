package diagnostic

// Code is the stable name of a kind of diagnostic. A code is never given a
// second meaning.
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

// Explanation tells what a code means, with a wrong and a right example.
type Explanation struct {
	Code  Code   `json:"code"`
	Title string `json:"title"`
	Why   string `json:"why"`
	Wrong string `json:"wrong"`
	Right string `json:"right"`
}

// Explain gives the explanation of a code; false where there is no such code.
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
		{CodeSyntax, "not YAML", "The file cannot be read as YAML 1.2 from this place on.",
			"memory: [128 MiB", "memory: 128 MiB"},
		{CodeEncoding, "not UTF-8 text", "Manifests are UTF-8 text without NUL characters.",
			"about: caf\\xe9", "about: café"},
		{CodeEmpty, "empty file", "A manifest says at least what it declares.", "(nothing)", "function: warn"},
		{CodeTooLarge, "file too large", "A manifest may have up to 256 KiB.", "a file of 300 KiB",
			"split it into several functions"},
		{CodeTooDeep, "nested too deeply", "A manifest may nest up to 32 levels.", "[[[[…]]]]", "[a, b]"},
		{CodeAnchor, "anchor or alias",
			"Anchors and aliases hide where a value comes from; defaults and in take their place.", "env: &shared {A: x}",
			"defaults: {env: {A: x}}"},
		{CodeTag, "tag", "Tags are not used; each key says what its value is.", "memory: !!str 128", "memory: 128 MiB"},
		{CodeMergeKey, "merge key", "Merge keys are not used; defaults and in take their place.", "<<: {A: x}",
			"defaults: {env: {A: x}}"},
		{CodeDocuments, "several documents", "One file holds one document.", "function: a\n---\nfunction: b", "function: a"},
		{CodeDuplicateKey, "key given twice", "A key stands once in a mapping, or its value would be a matter of luck.",
			"memory: 128 MiB\nmemory: 256 MiB", "memory: 256 MiB"},
		{CodeTab, "tab as indentation", "YAML indents with spaces.", "env:\n\tA: x", "env:\n  A: x"},
		{CodeUnknownKey, "unknown key", "A key that Rudmar does not know would be ignored silently, so it is refused.",
			"memroy: 128 MiB", "memory: 128 MiB"},
		{CodeMissingKey, "missing key", "This key has no value of its own that could be assumed.", "function: warn",
			"function: warn\nhandler: warn:run"},
		{CodeWrongKind, "wrong kind of value", "The key takes another kind of value: a text, a list or a mapping.",
			"secrets: sms_key", "secrets: [sms_key]"},
		{CodeEmptyList, "empty list",
			"A list of nothing allows nothing and expects nothing; leave the key out, or say what it is for.",
			"triggers: {ask: {route: GET /a, open_to: []}}", "triggers: {ask: {route: GET /a, open_to: members}}"},
		{CodeTwice, "given twice",
			"The same target, secret or permission stands twice, or target beside targets: one of them would be a matter of luck.", "permissions: [{may: [read], of: tables/a}, {may: [read], of: tables/a}]", "permissions: [{may: [read], of: tables/a}]"},
		{CodeName, "not a name",
			"Names have lower case letters, digits and hyphens, 1 to 40 of them, and start with a letter.",
			"function: Warn_1", "function: warn-1"},
		{CodeChoice, "not one of the choices", "The key takes one of a few words.", "runtime: pyton", "runtime: python"},
		{CodeUnit, "missing or wrong unit", "A bare number does not say what it measures.", "timeout: 10", "timeout: 10s"},
		{CodeNotNumber, "not a number", "The key takes a number.", "at_once: many", "at_once: 5"},
		{CodeRange, "out of range", "The value lies outside what is possible.", "timeout: 2d", "timeout: 15m"},
		{CodeMultiple, "not a multiple", "Memory is given in multiples of 16 MiB.", "memory: 100 MiB", "memory: 112 MiB"},
		{CodeSetting, "setting does not fit its type",
			"A stage's value, or a default, must be of the setting's type and within its bounds.",
			"settings: {limit: {type: number, default: warm}}", "settings: {limit: {type: number, default: 0.5}}"},
		{CodeTarget, "not a target", "A target is a platform and a region.", "target: north", "target: local/north"},
		{CodePath, "path leaves the service", "Paths stay inside the service's folder.", "code: ../../other", "code: ."},
		{CodeVariable, "not a variable's name",
			"Environment variables have letters, digits and _, and do not start with a digit; PATH, HOME, LANG, TMPDIR and what starts with RUDMAR_ are the platform's own.", "env: {PATH: /opt}", "env: {TOOLS_PATH: /opt}"},
		{CodeUnknownReference, "unknown reference", "The name that a reference gives is not declared.",
			"env: {L: \"${settings.limt}\"}", "env: {L: \"${settings.limit}\"}"},
		{CodeReferenceForm, "malformed reference", "A reference is ${kind.name}; a literal ${ is written $${.",
			"env: {L: \"${settings.}\"}", "env: {L: \"${settings.limit}\"}"},
		{CodeReferencePlace, "reference not possible here", "Secrets are only given to env; other keys take no reference.",
			"handler: ${settings.h}", "env: {H: \"${settings.h}\"}"},
		{CodeRouteForm, "malformed route",
			"A route is a method and a path with {name} parameters and, at the end, {rest...}.", "route: /stations",
			"route: GET /stations"},
		{CodeCollision, "colliding routes",
			"Two routes match the same request with equal rank, so which one wins would be a matter of luck.",
			"GET /a/{x} and GET /a/{y}", "GET /a/{x} and GET /b/{y}"},
		{CodeOpenTo, "missing open_to", "Nothing is public by default: each route says who may call it.",
			"ask: {route: GET /a}", "ask: {route: GET /a, open_to: members}"},
		{CodeCron, "malformed cron expression",
			"A cron expression has five fields: minute, hour, day of month, month, day of week.", "cron: \"*/10 * * *\"",
			"cron: \"*/10 * * * *\""},
		{CodeZone, "unknown time zone", "Zones are names of the IANA time zone database.", "zone: Oslo", "zone: Europe/Oslo"},
		{CodeTriggerKind, "trigger of no kind, or of several",
			"A trigger has just one of route, cron, every, objects, queue and function.", "ask: {route: GET /a, every: 5m}",
			"ask: {route: GET /a, open_to: members}"},
		{CodeTriggerKey, "key of another kind of trigger",
			"The key means nothing for this kind of trigger, or on takes other words for it.",
			"triggers: {sweep: {every: 1h, zone: Europe/Oslo}}", "triggers: {sweep: {every: 1h}}"},
		{CodeWholeService, "trigger's function unknown", "An after-function trigger names a function of this service.",
			"relay: {function: wran, on: [failed]}", "relay: {function: warn, on: [failed]}"},
		{CodeCircle, "functions call one another in a circle",
			"A function that runs after itself, by way of others or at once, would never stop.",
			"triggers: {again: {function: warn, on: [failed]}}", "triggers: {ask: {route: GET /a, open_to: members}}"},
		{CodeNoTrigger, "trigger unknown to the function",
			"A stage changes a trigger that the function does not have, without saying what calls it.",
			"in: {trial: {triggers: {houlry: {off: true}}}}", "in: {trial: {triggers: {nightly: {every: 1d}}}}"},
		{CodePermissionForm, "malformed permission", "A permission is may: [verbs] and of: kind/name or kind/name/path*.",
			"{may: [read], of: stations}", "{may: [read], of: tables/stations}"},
		{CodeWildcard, "wildcard", "A * alone as verb or kind permits what nobody has thought of yet.",
			"{may: [\"*\"], of: tables/stations}", "{may: [read], of: tables/stations}"},
		{CodeResourceKind, "kind of resource unknown",
			"The platforms that the stages run on have no resources of this kind.", "{may: [read], of: table/stations}",
			"{may: [read], of: tables/stations}"},
		{CodeVerb, "verb unknown", "The platforms that the stages run on do not know this verb for this kind of resource.",
			"{may: [raed], of: tables/stations}", "{may: [read], of: tables/stations}"},
		{CodeUnknownSecret, "secret that the service does not declare",
			"A permission to read a secret that secrets: does not name: Rudmar has no value to give with it, so that somebody has to keep one on the platform by hand.", "{may: [read], of: secrets/sms_kye}", "{may: [read], of: secrets/sms_key}"},
		{CodeDuplicateFunction, "function declared twice", "Two files declare a function of one name.",
			"function: warn in two files", "function: warn and function: warn-coast"},
		{CodeUnknownStage, "unknown stage", "The name is not one of the service's stages.", "in: {prod: {memory: 256 MiB}}",
			"in: {live: {memory: 256 MiB}}"},
		{CodeStageOrder, "stage order", "A stage is entered on a push, or after a stage that stands before it.",
			"enter: {after: live} in the first stage", "enter: {on: push, branch: main}"},
		{CodeCodeFolder, "no such code folder", "code names a folder of the repository.", "code: src", "code: ."},
		{CodeHandlerFile, "no such handler",
			"handler is file:function; the file stands in the code folder and defines the function.",
			"handler: wran:run", "handler: warn:run"},
		{CodeTooMany, "too many functions", "A service has up to 10,000 functions.", "10,001 functions", "two services"},
		{CodeNoFunctions, "no functions", "A service without functions does nothing.", "rudmar.yaml alone",
			"functions/hello/function.yaml beside it"},
		{CodeOffer, "not offered", "The platform does not have this region, runtime or kind of trigger.",
			"target: local/nroth", "target: local/north"},
		{CodeWas, "former name that cannot be",
			"was names a function that is still there, the function itself, or one that another function names too.",
			"was: warn", "was: frost-alert"},
		{CodeGate, "gate that can never hold", "The gate looks at cases or at a stage that there are not.",
			"gates: {cases: [nobody]}", "gates: {cases: all}"},
		{CodeNearlyRight, "file that is nearly right",
			"Manifests are called rudmar.yaml and function.yaml, cases end in .yaml and stand in a folder cases beside a function.yaml; other files are not read.", "functions/warn/function.yml", "functions/warn/function.yaml"},
		{CodeCaseSend, "case sends nothing it could",
			"A case sends to a route, to a trigger of its function, or a payload.",
			"send: {trigger: nightly}", "send: {payload: {}}"},
		{CodeCaseExpression, "expectation cannot be evaluated",
			"Expectations are CEL expressions over status, headers, body, logs, took, memory_peak and cold.",
			"expect: [\"status = 200\"]", "expect: [\"status == 200\"]"},
	}
}
