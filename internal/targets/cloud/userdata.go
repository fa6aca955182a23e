package cloud

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"fmt"
	"runtime"
	"strings"
	"sync"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// Payload is user data in the form in which it is submitted.
type Payload struct {
	Text       []byte
	Compressed bool
	Secret     bool
	Parts      []cloudinit.Part
}

// Base64 returns the payload in base64.
func (p Payload) Base64() string { return base64.StdEncoding.EncodeToString(p.Text) }

// Counted returns the size of a machine's payload in bytes as the platform counts it.
func (c *Cloud) Counted(f *fleet.Fleet, m *fleet.Machine, p Payload) int {
	size := len(p.Text)
	if c.FirstBoot.Base64 || c.FirstBoot.CompressedBase64 && p.Compressed {
		size = base64.StdEncoding.EncodedLen(size)
	}
	if c.FirstBoot.Beside != nil {
		size += c.FirstBoot.Beside(f, m)
	}
	return size
}

// UserData renders a machine's user data. It is compressed only if it would
// otherwise exceed the limit, and if the platform and the machine take that.
func (c *Cloud) UserData(job *render.Job, m *fleet.Machine) (Payload, error) {
	isWindows := catalog.Of(job.Fleet, m).Family.Class() == catalog.ClassWindows
	make := cloudinit.UserData
	if isWindows && c.FirstBoot.WindowsScript != nil {
		make = cloudinit.WindowsScript
	}
	data, err := make(job, m, c.FirstBoot.Environment)
	if err != nil {
		return Payload{}, fmt.Errorf("user data: %w", err)
	}
	if isWindows && c.FirstBoot.WindowsScript != nil {
		data.Text = []byte(c.FirstBoot.WindowsScript(string(data.Text)))
	}
	payload := Payload{Text: data.Text, Secret: data.Secret, Parts: data.Parts}
	if c.Counted(job.Fleet, m, payload) <= c.FirstBoot.Limit || !c.FirstBoot.Compressible || isWindows {
		return payload, nil
	}
	packed, err := compress(data.Text)
	if err != nil {
		return Payload{}, fmt.Errorf("user data: %w", err)
	}
	payload.Text, payload.Compressed = packed, true
	return payload, nil
}

// compress packs data without time and name in the header, so that the same data
// gives the same bytes.
func compress(data []byte) ([]byte, error) {
	var packed bytes.Buffer
	writer, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	if _, err := writer.Write(data); err != nil {
		return nil, err
	}
	if err := writer.Close(); err != nil {
		return nil, err
	}
	return packed.Bytes(), nil
}

// Prepared is what takes time to make for a machine.
type Prepared struct {
	Size    sizing.Offer
	Payload Payload
}

// Prepare chooses sizes and renders user data of many machines on every processor.
// It returns the error of the first machine that has one.
func (c *Cloud) Prepare(job *render.Job, machines []*fleet.Machine) ([]Prepared, error) {
	prepared := make([]Prepared, len(machines))
	faults := make([]error, len(machines))
	var group sync.WaitGroup
	workers := runtime.GOMAXPROCS(0)
	for worker := range workers {
		group.Go(func() {
			for i := worker; i < len(machines); i += workers {
				prepared[i], faults[i] = c.PrepareOne(job, machines[i])
			}
		})
	}
	group.Wait()
	for i, err := range faults {
		if err != nil {
			return nil, fmt.Errorf("machine %s: %w", machines[i].Name, err)
		}
	}
	return prepared, nil
}

// PrepareOne chooses the size and renders the user data of one machine.
func (c *Cloud) PrepareOne(job *render.Job, m *fleet.Machine) (Prepared, error) {
	size, _, err := c.SizeOf(job, m)
	if err != nil {
		return Prepared{}, err
	}
	payload, err := c.UserData(job, m)
	return Prepared{size, payload}, err
}

// HoldsSecret reports whether a machine's user data holds a secret.
func (c *Cloud) HoldsSecret(f *fleet.Fleet, m *fleet.Machine) bool {
	payload, err := c.UserData(WithoutSecrets(f), m)
	return err == nil && payload.Secret
}

// WithoutSecrets returns a job for looking at what would be rendered: every secret
// is the same 64 characters.
func WithoutSecrets(f *fleet.Fleet) *render.Job {
	secrets := func(*fleet.Secret) (string, error) { return strings.Repeat("x", 64), nil }
	return &render.Job{Fleet: f, Options: render.Options{Secrets: secrets}}
}
