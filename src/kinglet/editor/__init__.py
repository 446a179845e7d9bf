"""What an editor is told of a parser file while it is written: without a protocol, and without a screen."""
