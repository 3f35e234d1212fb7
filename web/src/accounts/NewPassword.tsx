import { TextField } from "@/parts/TextField";

interface Props {
  label: string;
  again: string;
  value: string;
  repeated: string;
  autoFocus?: boolean;
  onChange: (value: string) => void;
  onRepeat: (value: string) => void;
}

/** A new password, typed twice. */
export function NewPassword({ label, again, value, repeated, autoFocus, onChange, onRepeat }: Props) {
  return (
    <>
      <TextField
        label={label}
        type="password"
        autoComplete="new-password"
        autoFocus={autoFocus}
        required
        minLength={8}
        value={value}
        onChange={(event) => onChange(event.target.value)}
      />
      <TextField
        label={again}
        type="password"
        autoComplete="new-password"
        required
        aria-invalid={unlike(value, repeated)}
        value={repeated}
        onChange={(event) => onRepeat(event.target.value)}
      />
    </>
  );
}

/** Whether what was typed again is something else so far. */
export function unlike(value: string, repeated: string): boolean {
  return repeated !== "" && repeated !== value;
}
