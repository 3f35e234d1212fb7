/** Meanings that light knows. */
export const KNOWN = ["occlusion", "roughness", "metallic", "coat"];

/** A meaning or a name as it is kept: lower case letters, digits and _, a letter first. */
export const worded = (text: string) =>
  text
    .trim()
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "_")
    .replace(/^[^a-z]+|_+$/g, "")
    .slice(0, 40);
