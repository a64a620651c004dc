"""One function for each thing a user can want; the interface calls these and renders what they give."""
