import type { RefObject } from "react";

interface Props {
  /** Clicked by whatever looks like a button. */
  picker: RefObject<HTMLInputElement | null>;
  multiple?: boolean;
  testId?: string;
  onFiles: (files: File[]) => void;
}

/** Lets files be chosen, the same ones again, too; it is not seen itself. */
export function FileInput({ picker, multiple, testId, onFiles }: Props) {
  return (
    <input
      ref={picker}
      type="file"
      hidden
      multiple={multiple}
      data-testid={testId}
      onChange={(event) => {
        onFiles([...(event.target.files ?? [])]);
        event.target.value = "";
      }}
    />
  );
}
