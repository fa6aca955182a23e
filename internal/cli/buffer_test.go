package cli

import (
	"bytes"
	"sync"
)

// safeBuffer can be written and read at the same time.
type safeBuffer struct {
	mutex sync.Mutex
	data  bytes.Buffer
}

func (b *safeBuffer) Write(data []byte) (int, error) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.data.Write(data)
}

func (b *safeBuffer) String() string {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.data.String()
}
