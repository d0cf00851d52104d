"""From a request to its answer: figures, events, pages, and the notes that go with them."""
