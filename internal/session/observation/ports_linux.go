package observation

import (
	"fmt"
	"os"
	"sync"
)

// chosenPorts is the range from which the system chooses ports (ip(7), ip_local_port_range).
var chosenPorts = sync.OnceValues(func() (low, high uint16) {
	text, err := os.ReadFile("/proc/sys/net/ipv4/ip_local_port_range")
	if err == nil {
		_, err = fmt.Sscan(string(text), &low, &high)
	}
	if err != nil {
		return 32768, 60999
	}
	return low, high
})
