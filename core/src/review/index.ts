export { type ProjectChange, compareProjects, formerName, renamedTables, wrongFormerNames } from './changes.js';
export { type Loss, type Migration, type Treatment, holdersOf, losses, migrations, otherMeaning } from './migration.js';
