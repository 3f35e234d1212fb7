import { Help } from "./Help";
import { useHelp } from "./helpState";

/** Where the help opens, on whichever page. */
export function HelpPlace() {
  const { open, page } = useHelp();
  return open ? <Help key={page} /> : null;
}
