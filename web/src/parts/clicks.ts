/**
 * Whether what is happening is the second click of a double one upon a button. By then what the first did may not be
 * seen yet, or something else stands in its place.
 */
export function isSecondClick(event: Event | undefined): boolean {
  return (
    event instanceof MouseEvent &&
    event.type === "click" &&
    event.detail > 1 &&
    event.target instanceof Element &&
    event.target.closest("button, [role=menuitem], [role=option]") !== null
  );
}
