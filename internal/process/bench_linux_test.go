package process

import "testing"

// BenchmarkListening measures the check that runs five times a second as long as nothing new listens.
func BenchmarkListening(b *testing.B) {
	s := New(nil)
	for range b.N {
		s.Listening(false)
	}
}

// BenchmarkSurvey measures a survey of twenty processes.
func BenchmarkSurvey(b *testing.B) {
	s := New(nil)
	for range 20 {
		exited := make(chan Exit, 1)
		p, err := s.Start(Spec{Argv: []string{"/bin/sleep", "1000"}, Dir: "/", Cols: 80, Rows: 24,
			Output: func([]byte) {}, Exited: func(x Exit) { exited <- x }})
		if err != nil {
			b.Fatal(err)
		}
		defer func() { p.Signal("KILL"); <-exited }()
	}
	for b.Loop() {
		s.Survey()
	}
}
