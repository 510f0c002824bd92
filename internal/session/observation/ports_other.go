//go:build !linux

package observation

// chosenPorts is the range from which the system chooses ports, by the assignment of RFC 6335.
func chosenPorts() (low, high uint16) { return 49152, 65535 }
