"""Numbers: functions on arrays, with no Qt, no OpenGL, no files and no clock."""
