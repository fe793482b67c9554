"""The way to an address, hop by hop: packets of one flow whose lifetime ends at one router after the other."""
