package shell

// folderOnly is not needed here: there are no pipes among the files.
const folderOnly = 0
