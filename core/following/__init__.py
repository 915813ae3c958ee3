"""What follows the map: the click, and later parts."""
