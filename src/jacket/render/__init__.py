"""Drawing from arrays with OpenGL; no widgets."""
