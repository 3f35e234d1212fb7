interface Props {
  counts: number[];
  className?: string;
}

/** A histogram as a thin skyline; heights by square root, so that rare values are seen too. */
export function Skyline({ counts, className = "" }: Props) {
  const most = Math.max(1, ...counts);
  const path = counts
    .map((count, index) => {
      const height = Math.sqrt(count / most) * 14;
      return height < 0.3 ? "" : `M${index + 0.5} 15V${(15 - Math.max(1, height)).toFixed(1)}`;
    })
    .join("");
  return (
    <svg
      viewBox={`0 0 ${counts.length} 15`}
      preserveAspectRatio="none"
      className={`h-3.5 w-full ${className}`}
      aria-hidden
    >
      <path d={path} stroke="currentColor" strokeWidth={0.8} fill="none" />
      <path d={`M0 15H${counts.length}`} stroke="currentColor" strokeWidth={0.6} opacity={0.5} />
    </svg>
  );
}
