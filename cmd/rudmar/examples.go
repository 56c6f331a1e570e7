package main

import (
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// examples returns the examples of commands by their path without "rudmar": the tests run each
// through the parser.
func examples() map[string]string {
	return map[string]string{
		"build cancel":               "rudmar build cancel frostline 12",
		"build list":                 "rudmar build list frostline",
		"build show":                 "rudmar build show frostline 12",
		"case run":                   "rudmar case run frostline trial\nrudmar case run frostline --stage trial --format junit --output cases.xml",
		"check":                      "rudmar check demo/harvest\nrudmar check --fix\nrudmar check --explain RM1106",
		"build retry":                "rudmar build retry frostline 12",
		"delivery abort":             "rudmar delivery abort watering 3 live",
		"delivery advance":           "rudmar delivery advance watering 3 live",
		"delivery approve":           "rudmar delivery approve frostline 7 preview --comment \"tested on the north field\"",
		"delivery override":          "rudmar delivery override boxes 4 shop --gate no-new-public-routes --comment \"agreed at the council\"",
		"delivery pause":             "rudmar delivery pause watering 3 live",
		"delivery reject":            "rudmar delivery reject frostline 7 preview --comment \"the limit is too low\"",
		"delivery request":           "rudmar delivery request frostline 6 live\nrudmar delivery request frostline 6 live --only warn,relay",
		"delivery request-remaining": "rudmar delivery request-remaining frostline 6 live",
		"delivery resume":            "rudmar delivery resume watering 3 live",
		"delivery retry":             "rudmar delivery retry frostline 7 trial",
		"delivery rollback":          "rudmar delivery rollback frostline 6 preview",
		"delivery show":              "rudmar delivery show frostline 7 preview",
		"delivery withdraw":          "rudmar delivery withdraw frostline 7 preview",
		"demo":                       "rudmar demo\nrudmar demo --data demo-data --listen 127.0.0.1:8080",
		"deploy":                     "rudmar deploy frostline live\nrudmar deploy frostline preview --version 6",
		"deployment cancel":          "rudmar deployment cancel 52",
		"deployment list":            "rudmar deployment list frostline",
		"deployment retry":           "rudmar deployment retry 52",
		"deployment show":            "rudmar deployment show 52 --follow",
		"drift ignore":               "rudmar drift ignore frostline live function/warn --attribute env.MODE --reason \"quiet until spring\" --until 2027-03-01",
		"drift list":                 "rudmar drift list frostline live",
		"format":                     "rudmar format demo/harvest",
		"invoke":                     "rudmar invoke frostline trial warn\nrudmar invoke frostline trial warn --event '{\"method\": \"GET\", \"params\": {\"station\": \"weir\"}}'\nrudmar invoke frostline trial warn --event @event.json",
		"login":                      "rudmar login --server https://rudmar.brambleford.example --username wren",
		"logout":                     "rudmar logout",
		"logs":                       "rudmar logs frostline live --function warn\nrudmar logs frostline trial --follow",
		"new function":               "rudmar new function weigh --runtime node",
		"new service":                "rudmar new service cellar --runtime go",
		"notification create":        "rudmar notification create board https://board.brambleford.example/rudmar --type delivery. --service frostline",
		"notification delete":        "rudmar notification delete board",
		"notification list":          "rudmar notification list",
		"notification resend":        "rudmar notification resend 31",
		"notification show":          "rudmar notification show board",
		"output list":                "rudmar output list frostline trial --format env\nrudmar output list --stage trial --format json",
		"plan":                       "rudmar plan frostline live\nrudmar plan frostline live --version 6\nrudmar plan frostline trial --folder .",
		"platform":                   "rudmar platform --data platform-data",
		"platform caller":            "rudmar platform caller linden growers-council",
		"platform change":            "rudmar platform change north/frostline/live function/warn memory=256MiB",
		"platform conform":           "rudmar platform conform http://127.0.0.1:7071 --platform-token-file platform.token",
		"platform dead-letters":      "rudmar platform dead-letters north/frostline/trial",
		"platform discard":           "rudmar platform discard north/frostline/trial 7",
		"platform faults":            "rudmar platform faults north slow=200ms fail_before=5%\nrudmar platform faults north",
		"platform remove":            "rudmar platform remove north/frostline/live route/warn/ask",
		"platform retry":             "rudmar platform retry north/frostline/trial 7",
		"platform secret":            "rudmar platform secret north/frostline/live sms_key s3cret",
		"platform send":              "rudmar platform send north/frostline/trial alerts '{\"station\": \"hill\"}'",
		"platform show":              "rudmar platform show north/frostline/live\nrudmar platform show north/frostline/live function/warn",
		"platform upload":            "rudmar platform upload north/frostline/trial photos/hill.jpg hill.jpg",
		"prune":                      "rudmar prune --keep-plans 30d\nrudmar prune --keep-plans 30d --now",
		"render":                     "rudmar render demo/harvest --stage live",
		"repository create":          "rudmar repository create orchard",
		"repository delete":          "rudmar repository delete orchard --confirm orchard",
		"repository list":            "rudmar repository list",
		"repository mirror":          "rudmar repository mirror orchard https://git.brambleford.example/orchard.git",
		"right grant":                "rudmar right grant linden view --scope frostline\nrudmar right grant growers-council approve --group --scope frostline/live",
		"right list":                 "rudmar right list",
		"right revoke":               "rudmar right revoke linden view --scope frostline",
		"run":                        "rudmar new service hello && rudmar run hello",
		"schema":                     "rudmar schema function > function.schema.json",
		"secret list":                "rudmar secret list frostline live",
		"secret set":                 "rudmar secret set frostline live sms_key < sms_key.txt",
		"serve":                      "rudmar user create wren --role author\nrudmar serve --listen 127.0.0.1:7070",
		"service delete":             "rudmar service delete cellar --confirm cellar",
		"service list":               "rudmar service list",
		"service move":               "rudmar service move cellar --to orchard --confirm cellar",
		"status":                     "rudmar status frostline",
		"token create":               "rudmar token create nightly-build --permission write --permission request --scope frostline --days 30",
		"token list":                 "rudmar token list",
		"token revoke":               "rudmar token revoke 3",
		"user close":                 "rudmar user close sorrel",
		"user create":                "rudmar user create linden --role approver --group growers-council --scope frostline/live",
		"user email":                 "rudmar user email linden --add linden@brambleford.example",
		"user groups":                "rudmar user groups linden --add growers-council --remove visitors",
		"user list":                  "rudmar user list",
		"user password":              "rudmar user password wren",
		"user reopen":                "rudmar user reopen sorrel",
		"version compare":            "rudmar version compare frostline 6 7",
		"version list":               "rudmar version list frostline",
		"version show":               "rudmar version show frostline 7",
		"version verify":             "rudmar version verify 7 --service frostline --data rudmar-data",
		"watch":                      "rudmar watch demo/harvest",
	}
}

// addExamples adds their examples to a command and its subcommands.
func addExamples(cmd *cobra.Command, path string, list map[string]string) {
	if example := list[path]; example != "" {
		cmd.Example = "  " + strings.ReplaceAll(example, "\n", "\n  ")
	}
	for _, c := range cmd.Commands() {
		below := c.Name()
		if path != "" {
			below = path + " " + below
		}
		addExamples(c, below, list)
	}
}

// plainFlags returns the usage of flags without the values of Boolean ones.
func plainFlags(flags *pflag.FlagSet) string {
	const values = "[=true|false]"
	return strings.TrimRight(strings.ReplaceAll(flags.FlagUsages(), values, strings.Repeat(" ", len(values))), " \n")
}
