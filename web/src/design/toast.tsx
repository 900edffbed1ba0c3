import { Toast } from "radix-ui";
import { createContext, useCallback, useContext, useState, type ReactNode } from "react";

const ToastContext = createContext<(says: string) => void>(() => undefined);

/** Says for a moment that something was done. */
export const useToast = () => useContext(ToastContext);

export function Toasts({ children }: { children: ReactNode }) {
  const [list, setList] = useState<{ id: number; says: string }[]>([]);
  const add = useCallback((says: string) => setList((old) => [...old.slice(-2), { id: Date.now() + Math.random(), says }]), []);
  return (
    <ToastContext.Provider value={add}>
      <Toast.Provider duration={4000} label="Notice">
        {children}
        {list.map((t) => (
          <Toast.Root key={t.id} onOpenChange={(open) => !open && setList((old) => old.filter((o) => o.id !== t.id))} className="border border-rule-strong bg-ink px-4 py-2.5 text-small text-paper">
            <Toast.Title>{t.says}</Toast.Title>
          </Toast.Root>
        ))}
        <Toast.Viewport className="fixed right-5 bottom-5 z-40 grid w-80 max-w-[calc(100vw-2.5rem)] gap-2 outline-none" />
      </Toast.Provider>
    </ToastContext.Provider>
  );
}
