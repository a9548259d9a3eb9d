/** Whether live numbers stand still, for the whole console. */
import { createContext, useContext } from "react";

export const Frozen = createContext<{ frozen: boolean; setFrozen: (frozen: boolean) => void }>({ frozen: false, setFrozen: () => undefined });

export function useFrozen() {
  return useContext(Frozen);
}
