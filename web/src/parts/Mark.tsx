import { Link } from "react-router";

/** The name, and the way home. */
export function Mark() {
  return (
    <Link
      to="/projects"
      className="flex items-center gap-2 text-[13px] font-semibold tracking-[0.14em]"
      aria-label="Nexal, all projects"
      title="All projects"
    >
      <svg
        viewBox="0 0 16 16"
        className="h-4 w-4 fill-none stroke-lichen"
        strokeWidth={1.8}
        strokeLinejoin="round"
        strokeLinecap="round"
        aria-hidden
      >
        <path d="M1.5 13 5 3l4 10L12.5 3" />
        <path d="M9 13 14.5 5" />
      </svg>
      NEXAL
    </Link>
  );
}
