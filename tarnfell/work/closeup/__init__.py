"""One call or video stream, packet by packet, judged as a person chose."""
