"""Things broken on purpose, for as long as one likes: `make soak`. Each is made from a number, which repeats it."""
