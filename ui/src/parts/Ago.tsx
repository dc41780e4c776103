import { useEffect, useState } from "react";
import { ago } from "./time";

/** How long ago, in words that stay true while one looks. */
export function Ago({ at }: { at: string }) {
  const [, tick] = useState(0);
  useEffect(() => {
    const timer = window.setInterval(() => tick((count) => count + 1), 15_000);
    return () => window.clearInterval(timer);
  }, []);
  return <>{ago(at)}</>;
}
