"""What is decided, without Flask and without SQL text: bytes to judged values, records to evidence."""
