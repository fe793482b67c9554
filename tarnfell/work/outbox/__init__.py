"""What goes out from here to people and programs: by mail, to a webhook, each once it is due (deliver)."""
