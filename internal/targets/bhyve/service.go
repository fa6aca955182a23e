package bhyve

import (
	"bytes"
	_ "embed"
	"fmt"
	"strings"
	"sync"
	"text/template"
	"time"

	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/render"
)

// serviceText is a script of rc(8) that starts machines with the host.
//
//go:embed fleet.rc.template
var serviceText string

var serviceTemplate = sync.OnceValue(func() *template.Template { return hypervisor.Template("fleet.rc", serviceText) })

// service renders the service of the machines that start with the host, if there are any.
func service(job *render.Job) ([]render.File, error) {
	type machine struct {
		Name  string
		Delay int64
	}
	values := struct {
		Fleet, Name string
		Machines    []machine
	}{Fleet: job.Fleet.Name, Name: "stavren_" + strings.ReplaceAll(job.Fleet.Name, "-", "_")}
	for _, m := range job.Machines() {
		if m.Autostart {
			values.Machines = append(values.Machines, machine{m.Name, int64(m.AutostartDelay / time.Second)})
		}
	}
	if len(values.Machines) == 0 {
		return nil, nil
	}
	var script bytes.Buffer
	if err := serviceTemplate().Execute(&script, values); err != nil {
		return nil, fmt.Errorf("fleet.rc: %w", err)
	}
	return []render.File{{Name: job.Fleet.Name + ".rc", Data: script.Bytes(), Mode: 0o755}}, nil
}
