"""The far end of calls with a page in a browser, whatever its packets come by."""
