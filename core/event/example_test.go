package event_test

import (
	"fmt"
	"time"

	"rudmar/core/event"
)

func Example() {
	of := event.Of{ID: "e1", At: time.Date(2031, 4, 2, 3, 0, 0, 0, time.UTC)}
	fired := of.Fired("sweep", 2)
	fmt.Println(fired["type"], fired["source"], fired["data"].(map[string]any)["missed"])
	// Output: rudmar.schedule.fired /schedules/sweep 2
}
