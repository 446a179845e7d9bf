"""Events made from a parser itself: texts that its patterns say they read, and the values that they hold."""
