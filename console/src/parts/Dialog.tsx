import type { ReactNode } from 'react';
import { Dialog as AriaDialog, Heading, Modal, ModalOverlay } from 'react-aria-components';
import style from './Dialog.module.css';

export function Dialog({
  title,
  isOpen,
  close,
  wide,
  children,
}: {
  title: string;
  isOpen: boolean;
  close: () => void;
  wide?: boolean;
  children: ReactNode;
}) {
  return (
    <ModalOverlay className={style.overlay} isOpen={isOpen} isDismissable onOpenChange={(open) => !open && close()}>
      <Modal className={`${style.modal} ${wide ? style.wide : ''}`}>
        <AriaDialog className={style.dialog}>
          <Heading slot="title" className={style.title}>
            {title}
          </Heading>
          {children}
        </AriaDialog>
      </Modal>
    </ModalOverlay>
  );
}

export function DialogActions({ children }: { children: ReactNode }) {
  return <div className={style.actions}>{children}</div>;
}
