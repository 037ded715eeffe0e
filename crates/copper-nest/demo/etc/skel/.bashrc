alias tides="less /srv/tides.txt"
