"""One request of an exploration: made, sent, judged, held."""
