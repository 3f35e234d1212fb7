/** A share as people read it: with a decimal where it is small. */
export const percent = (share: number) => `${(share * 100).toFixed(share < 0.1 ? 1 : 0)} %`;
