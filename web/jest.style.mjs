/** Stands for a style sheet, which a page without a browser does not show. */
export default {};
