/** A button for what cannot be undone: pressed once, it asks; pressed again, it does it. */
import { useState } from "react";

import { SMALL_BUTTON } from "../design/buttons";

export function Twice({ says, asks, className = "", onDo }: { says: string; asks: string; className?: string; onDo: () => void }) {
  const [asked, setAsked] = useState(false);
  return (
    <button
      type="button"
      className={`${SMALL_BUTTON} ${asked ? "border-fails text-fails" : ""} ${className}`}
      onBlur={() => setAsked(false)}
      onClick={() => {
        if (asked) onDo();
        setAsked(!asked);
      }}
    >
      {asked ? asks : says}
    </button>
  );
}
