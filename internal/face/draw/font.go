package draw

import (
	"fmt"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
)

// perPoint is a point in millimetres.
const perPoint = 25.4 / 72

// measured is the size in points at which widths are measured; they are proportional to the size.
const measured = 1000

// faces are the Go fonts, by weight. A face is for one goroutine at a time.
var faces struct {
	sync.Mutex
	of map[bool]font.Face
}

// fonts loads the fonts, once.
var fonts = sync.OnceValue(func() error {
	faces.of = map[bool]font.Face{}
	for bold, data := range map[bool][]byte{false: goregular.TTF, true: gobold.TTF} {
		parsed, err := opentype.Parse(data)
		if err != nil {
			return fmt.Errorf("read the font of drawings: %w", err)
		}
		faces.of[bold], err = opentype.NewFace(
			parsed,
			&opentype.FaceOptions{Size: measured, DPI: 72, Hinting: font.HintingNone},
		)
		if err != nil {
			return fmt.Errorf("read the font of drawings: %w", err)
		}
	}
	return nil
})

// width is the width of a text in a style, in millimetres. The fonts must be loaded.
func (i ink) width(text string) float64 {
	faces.Lock()
	defer faces.Unlock()
	points := float64(font.MeasureString(faces.of[i.bold], text)) / 64 / measured * i.size
	return points * perPoint
}
