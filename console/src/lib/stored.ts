/** A choice that outlives the page, kept by the browser. */
import { useState } from "react";

export function useStored(key: string): [string | null, (value: string) => void] {
  const [value, setValue] = useState(() => localStorage.getItem(`rockrose.${key}`));
  const choose = (chosen: string) => {
    localStorage.setItem(`rockrose.${key}`, chosen);
    setValue(chosen);
  };
  return [value, choose];
}
