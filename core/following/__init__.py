"""What follows the map: the click, each track's lean, sections played in any order."""
