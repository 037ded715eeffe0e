# root
