import rules from './.dependency-cruiser.cjs'

/** Folders point one way, too. Tests may look at several of them and are left out. */
const folderRules = {
  forbidden: [
    { name: 'no-folder-circles', severity: 'error', scope: 'folder', from: { path: '^src/' }, to: { circular: true } },
  ],
  options: { ...rules.options, exclude: { path: '\\.test\\.tsx?$|testing(/|\\.ts$)' } },
}

export default folderRules
