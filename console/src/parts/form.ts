// What somebody typed into a form.

/** The texts of fields by their names; one that is not there is empty. */
export function filled<const Names extends readonly string[]>(form: HTMLFormElement, names: Names): Record<Names[number], string> {
    const given = new FormData(form);
    const texts = names.map((name) => {
        const value = given.get(name);
        return [name, typeof value === "string" ? value : ""];
    });
    return Object.fromEntries(texts) as Record<Names[number], string>;
}
