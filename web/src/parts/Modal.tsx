import { X } from "lucide-react";
import { Dialog } from "radix-ui";
import type { ReactNode } from "react";

interface Props {
  title: string;
  about?: string;
  open: boolean;
  onClose: () => void;
  width?: number;
  children: ReactNode;
}

/**
 * A dialog over everything; Escape and the cross close it. The focus is where one would type, else on what the dialog is
 * for; never on what overwrites or deletes: then Enter does nothing.
 */
export function Modal({ title, about, open, onClose, width = 440, children }: Props) {
  return (
    <Dialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/60" />
        <Dialog.Content
          style={{ width }}
          onOpenAutoFocus={(event) => {
            // Where typing belongs; else what the dialog is for; the cross last.
            const content = event.currentTarget as HTMLElement;
            const field = content.querySelector<HTMLElement>("input, textarea, select");
            const main = content.querySelector<HTMLElement>("[data-main]:not(:disabled, [data-overwrites])");
            const first = field ?? main ?? content;
            event.preventDefault();
            first.focus();
            if (first instanceof HTMLInputElement) first.select();
          }}
          className="fixed left-1/2 top-[12vh] z-50 max-h-[76vh] max-w-[94vw] -translate-x-1/2 overflow-auto rounded-sm border border-line bg-panel p-4 outline-none"
          {...(about ? {} : { "aria-describedby": undefined })}
        >
          <div className="mb-3 flex items-start justify-between gap-4">
            <Dialog.Title className="text-[14px] font-semibold">{title}</Dialog.Title>
            <Dialog.Close aria-label="Close" className="text-dim hover:text-text">
              <X size={16} />
            </Dialog.Close>
          </div>
          {about && <Dialog.Description className="mb-3 text-dim">{about}</Dialog.Description>}
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
