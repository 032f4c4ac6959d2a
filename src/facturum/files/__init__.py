"""Tables read and written, the plan file, the build folder."""
