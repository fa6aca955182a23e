// Command counter says how many blocks of statements run while a definition is loaded
// and checked. It reads definitions from its standard input, each after its length in
// four bytes, and writes eight bytes for each. Bytes are in big-endian order.
//
// It counts by Go's coverage counters, so it has to be built with
//
//	go build -cover -covermode atomic -coverpkg "$(.ci/counted)"
package main

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/coverage"
	"testing/fstest"

	"stavren.example/stavren"
)

func main() {
	if err := serve(os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "counter:", err)
		os.Exit(1)
	}
}

func serve(in io.Reader, out io.Writer) error {
	for {
		var length uint32
		switch err := binary.Read(in, binary.BigEndian, &length); {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
		definition := make([]byte, length)
		if _, err := io.ReadFull(in, definition); err != nil {
			return err
		}
		n, err := steps(func() { loadAndCheck(definition) })
		if err != nil {
			return err
		}
		if err := binary.Write(out, binary.BigEndian, n); err != nil {
			return err
		}
	}
}

// loadAndCheck reads a definition as check does. Its faults don't matter here.
func loadAndCheck(definition []byte) {
	const name = "x.stavren.yaml"
	files := fstest.MapFS{name: {Data: definition}}
	f, err := stavren.Load(context.Background(), files, name, stavren.LoadOptions{})
	if err == nil {
		_, _ = stavren.Check(context.Background(), stavren.CheckOptions{}, f)
	}
}

// steps counts the blocks of statements that run while a function does.
func steps(run func()) (uint64, error) {
	if err := coverage.ClearCounters(); err != nil {
		return 0, err
	}
	run()
	var data bytes.Buffer
	if err := coverage.WriteCounters(&data); err != nil {
		return 0, err
	}
	return sum(data.Bytes())
}

// sum adds up the counters in a file of coverage counters. The form is that of Go's
// internal/coverage/defs.go: a header of 32 bytes whose 25th says how numbers are
// written; a segment with its own header of 16 bytes, which counts the functions and
// the bytes of two tables; the tables, up to a multiple of four; and for each function
// its number of counters, its package, its own number, and the counters.
func sum(data []byte) (uint64, error) {
	const header, segment, footer = 32, 16, 16
	errForm := errors.New("the counters have another form than this test knows")
	if len(data) < header+segment+footer || !bytes.Equal(data[:4], []byte{0, 'c', 'w', 'm'}) || data[25] != 0 {
		return 0, errForm
	}
	leb := data[24] == 2
	functions := binary.LittleEndian.Uint64(data[header:])
	tables := binary.LittleEndian.Uint32(data[header+8:]) + binary.LittleEndian.Uint32(data[header+12:])
	rest := data[header+segment+(int(tables)+3)/4*4:]
	next := func() (value uint64) {
		if !leb {
			value, rest = uint64(binary.LittleEndian.Uint32(rest)), rest[4:]
			return value
		}
		value, size := binary.Uvarint(rest)
		rest = rest[size:]
		return value
	}
	total := uint64(0)
	for range functions {
		counters := next()
		_, _ = next(), next()
		for range counters {
			total += next()
		}
	}
	if len(rest) < footer || len(rest) > footer+4 {
		return 0, errForm
	}
	return total, nil
}
