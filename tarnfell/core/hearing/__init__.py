"""What users would hear: a made-up sentence carried through recorded packets, with what was missed concealed."""
