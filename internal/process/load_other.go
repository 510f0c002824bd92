//go:build !linux

package process

// Load does not know the load of this system.
func (s *Spawner) Load(bool) (average float64, others int, ok bool) { return 0, 0, false }
