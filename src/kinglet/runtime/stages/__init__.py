"""The stages of a batch, one file each, with one function of one signature: it takes work and adds to it."""
