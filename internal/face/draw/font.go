package draw

import (
	"fmt"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
)

// perPoint is how many millimetres a point is.
const perPoint = 25.4 / 72

// measured is the size in points at which widths are taken; they grow with the size.
const measured = 1000

// faces are the Go fonts, by whether they are bold. A face is for one goroutine at a time.
var faces struct {
	sync.Mutex
	of map[bool]font.Face
}

// fonts reads the fonts, once.
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

// width is how wide a text is in the ink, in millimetres. The fonts must have been read.
func (i ink) width(text string) float64 {
	faces.Lock()
	defer faces.Unlock()
	points := float64(font.MeasureString(faces.of[i.bold], text)) / 64 / measured * i.size
	return points * perPoint
}
