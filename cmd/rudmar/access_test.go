package main

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/spf13/cobra"

	"rudmar/server/api"
)

var writeAccess = flag.Bool("write-access", false, "write the table of commands in docs/security.md")

// What a command needs besides the rights of the operations that it requests.
const (
	ownFiles      = "nothing: it works on the caller's files"
	dataFolder    = "the files of the data folder"
	platformToken = "the platform's token"
)

// commandAccess returns what each command needs: names of operations, or one of the texts above.
func commandAccess() map[string]string {
	return map[string]string{
		"build cancel": "cancelBuild", "build list": "listBuilds", "build retry": "retryBuild", "build show": "listBuilds",
		"case run": "runCases", "check": ownFiles, "format": ownFiles, "new function": ownFiles, "new service": ownFiles, "render": ownFiles,
		"schema": ownFiles, "run": ownFiles,
		"delivery abort": "actOnDelivery", "delivery advance": "actOnDelivery", "delivery approve": "actOnDelivery",
		"delivery override": "actOnDelivery", "delivery pause": "actOnDelivery", "delivery reject": "actOnDelivery",
		"delivery request": "actOnDelivery", "delivery request-remaining": "actOnDelivery", "delivery resume": "actOnDelivery",
		"delivery retry": "actOnDelivery", "delivery rollback": "actOnDelivery", "delivery withdraw": "actOnDelivery",
		"delivery show": "getDeliveryStage", "demo": dataFolder, "serve": dataFolder, "prune": dataFolder, "deploy": "savePlan runPlan getDeployment",
		"deployment cancel": "actOnDeployment", "deployment retry": "actOnDeployment", "deployment list": "listDeployments",
		"deployment show": "getDeployment", "drift ignore": "ignoreDrift unignoreDrift", "drift list": "listDrift",
		"invoke": "getFunction invokeFunction", "login": "getSession listTokens createToken revokeToken", "logout": "revokeToken",
		"logs": "getLogs followLogs", "notification create": "createNotificationTarget", "notification list": "listNotificationTargets",
		"notification delete": "listNotificationTargets deleteNotificationTarget", "notification resend": "resendNotification",
		"notification show": "listNotificationTargets listNotifications", "output list": "listOutputs",
		"plan":     "savePlan getPlan getPlanText getPlanDocument draftPlan getSource",
		"platform": dataFolder, "platform caller": platformToken, "platform change": platformToken, "platform conform": platformToken,
		"platform dead-letters": platformToken, "platform discard": platformToken, "platform faults": platformToken, "platform remove": platformToken,
		"platform retry": platformToken, "platform secret": platformToken, "platform send": platformToken, "platform show": platformToken,
		"platform upload": platformToken, "repository create": "createRepository", "repository delete": "deleteRepository",
		"repository list": "listRepositories", "repository mirror": "setMirror fetchMirror deleteMirror", "right grant": dataFolder,
		"right list": dataFolder, "right revoke": dataFolder, "secret list": "getSecrets", "secret set": "setSecret",
		"service delete": "deleteService", "service list": "listServices", "service move": "moveService", "status": "getStageLine",
		"token create": "createToken", "token list": "listTokens", "token revoke": "revokeToken", "user close": dataFolder,
		"user create": dataFolder, "user email": dataFolder, "user groups": dataFolder, "user list": dataFolder, "user password": dataFolder,
		"user reopen": dataFolder, "version compare": "compareVersions", "version list": "listVersions", "version show": "getVersion",
		"version verify": dataFolder, "watch": "putCopy invokeCopy runCopyCases followCopyLogs deleteCopy getSession",
	}
}

// Every command states what it needs, and docs/security.md shows it.
func TestAccessOfEveryCommand(t *testing.T) {
	description, err := openapi3.NewLoader().LoadFromData(api.Description)
	if err != nil {
		t.Fatal(err)
	}
	operations := map[string]bool{}
	for _, item := range description.Paths.Map() {
		for _, o := range item.Operations() {
			operations[o.OperationID] = true
		}
	}
	table := commandAccess()
	rows := map[string]string{}
	var visit func(c *cobra.Command, name string)
	visit = func(c *cobra.Command, name string) {
		for _, sub := range c.Commands() {
			if !sub.Hidden {
				visit(sub, strings.TrimSpace(name+" "+sub.Name()))
			}
		}
		if _, isExample := examples()[name]; !isExample {
			return // a group of commands
		}
		needs, ok := table[name]
		if !ok {
			t.Errorf("rudmar %s has no row", name)
			return
		}
		if !slices.Contains([]string{ownFiles, dataFolder, platformToken}, needs) {
			for _, operation := range strings.Fields(needs) {
				if !operations[operation] {
					t.Errorf("rudmar %s: the API has no operation %s", name, operation)
				}
			}
			needs = "`" + strings.Join(strings.Fields(needs), "`, `") + "`"
		}
		rows[name] = fmt.Sprintf("| `rudmar %s` | %s |\n", name, needs)
	}
	visit(command(), "")
	if len(rows) < 80 {
		t.Errorf("only %d commands", len(rows))
	}
	const begin, end = "<!-- commands -->\n", "<!-- end of commands -->\n"
	text, err := os.ReadFile("../../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	before, rest, _ := strings.Cut(string(text), begin)
	_, after, _ := strings.Cut(rest, end)
	want := before + begin + "| Command | Requires the right to these operations, or |\n|---|---|\n"
	for _, name := range slices.Sorted(maps.Keys(rows)) {
		want += rows[name]
	}
	want += end + after
	if *writeAccess {
		if err := os.WriteFile("../../docs/security.md", []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if want != string(text) {
		t.Error("the table of commands in docs/security.md is not current; run this test with -write-access")
	}
}
