"""From the records to what people read: text, JSON and pictures."""
