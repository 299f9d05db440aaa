package engine

import "ambercellar/internal/core/shape"

type shapeTable = shape.Table

// nearest suggests a name in place of one that is not there.
func nearest(name string, candidates []string, otherwise string) string {
	if near := shape.Nearest(name, candidates); near != "" {
		return "did you mean " + near + "?"
	}
	return otherwise
}
