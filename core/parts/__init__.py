"""Added parts: grooves, notes played in, audio loops; their edits, quantising and notation."""
