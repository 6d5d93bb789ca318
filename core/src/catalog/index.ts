export { Catalog, POSTGRESQL, type CatalogLines } from './catalog.js';
export { typeOfText, textOfType, type SqlType } from './type-names.js';
