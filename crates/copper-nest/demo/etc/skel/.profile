# what every session begins with
export EDITOR=vi
