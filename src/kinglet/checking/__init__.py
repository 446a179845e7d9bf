"""The whole check of parsers: cases, lint, what mappings leave open, what detections are fed; and keeping cases."""
