package gce

import (
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
)

// scopeBase begins the URL of every scope ("OAuth 2.0 Scopes for Google APIs").
const scopeBase = "https://www.googleapis.com/auth/"

// scopeNames are the short names of scopes that the platform's own program takes.
var scopeNames = map[string]string{
	"storage-ro": "devstorage.read_only", "storage-rw": "devstorage.read_write", "storage-full": "devstorage.full_control",
	"logging-write": "logging.write", "monitoring": "monitoring", "monitoring-write": "monitoring.write",
	"compute-ro": "compute.readonly", "compute-rw": "compute", "pubsub": "pubsub", "bigquery": "bigquery",
	"datastore": "datastore", "sql-admin": "sqlservice.admin", "service-control": "servicecontrol",
	"service-management": "service.management.readonly", "trace": "trace.append", "cloud-platform": "cloud-platform",
}

// scopesOf returns the URLs of a machine's scopes, by default the one that leaves the
// decision to the account's roles.
func scopesOf(m *fleet.Machine) []string {
	if len(m.Identity.Scopes) == 0 {
		return []string{scopeBase + "cloud-platform"}
	}
	var scopes []string
	for _, scope := range m.Identity.Scopes {
		if name := scopeNames[scope]; name != "" {
			scope = name
		}
		if !strings.HasPrefix(scope, "https://") {
			scope = scopeBase + scope
		}
		scopes = append(scopes, scope)
	}
	return scopes
}

// needs adds the form of an identity, and a firewall's network.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	report := finding.Report{Machine: m.Name, Findings: platform.Needs(f, m)}
	if account := m.Identity.Account; account != "" && !strings.Contains(account, "@") {
		report.Add("identity-refused", finding.Error, finding.OfMachine(m, "identity"),
			"the identity %s of machine %s is not the e-mail address of a service account", account, m.Name).
			Remedy = "write its address: " + account + "@PROJECT.iam.gserviceaccount.com"
	}
	if platform.Value(f, m, "subnetwork") != "" && platform.Value(f, m, "network") == "" {
		report.Findings = append(report.Findings, platform.Missing(f, m,
			cloud.Setting{Key: "network", What: "the network of the subnet, which firewalls belong to"}, defaultNetwork))
	}
	return report.Findings
}
