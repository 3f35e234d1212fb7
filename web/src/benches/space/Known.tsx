import type { SpaceRow } from "./space";

/** What there is, how it is known, and what is wrong with it. */
export function Known({ space }: { space: SpaceRow }) {
  const passes = [
    space.position && `positions ${space.position}`,
    space.normals && `normals ${space.normals}`,
    ...space.ids.map(
      (ids) => `ids ${ids.layer || ids.address}${ids.names.length ? `, ${ids.names.length} names` : ""}`,
    ),
  ].filter(Boolean);
  return (
    <div className="space-y-1.5" data-testid="known">
      {space.depths.map((depth) => {
        const [first, ...rest] = depth.sentences.filter((line) => !line.startsWith("warning"));
        return (
          <details key={depth.channel}>
            <summary className="cursor-pointer">{first}</summary>
            <ul className="mt-1 space-y-0.5 pl-3 text-dim">
              {rest.map((line) => (
                <li key={line}>{line}</li>
              ))}
            </ul>
          </details>
        );
      })}
      {space.depths.flatMap((depth) =>
        depth.warnings.map((warning) => (
          <p key={`${depth.channel} ${warning}`} className="text-clay">
            {depth.channel} {warning}
          </p>
        )),
      )}
      {passes.length > 0 && <p className="text-dim">{passes.join(" · ")}</p>}
      {space.ids
        .filter((ids) => ids.problem)
        .map((ids) => (
          <p key={ids.layer} className="text-clay">
            {ids.layer}: {ids.problem}
          </p>
        ))}
      {space.depths.length > 0 && !space.position && (
        <p className="text-dim">
          {space.camera
            ? "Positions are not in the file, and follow from depth and its camera: add Positions."
            : "Positions are not in the file; with the camera's field of view they follow from depth: add Positions."}
        </p>
      )}
      {space.position && space.depths.length === 0 && (
        <p className="text-dim">
          Depth is not in the file, and follows from positions and {space.camera ? "its" : "the"} camera: add
          Depth.
        </p>
      )}
      {space.position && !space.normals && (
        <p className="text-dim">Normals are not in the file, and follow from positions: add Normals.</p>
      )}
    </div>
  );
}
