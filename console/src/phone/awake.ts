import { useEffect, useState } from "react";

/** Keeps the phone's screen on while something is sent, where its browser can; tells whether it does. */
export function useAwake(wanted: boolean): boolean {
  const [held, setHeld] = useState(false);
  useEffect(() => {
    if (!wanted || !("wakeLock" in navigator)) return;
    let lock: WakeLockSentinel | undefined;
    let over = false;
    const take = () => {
      if (document.visibilityState !== "visible" || over) return;
      navigator.wakeLock.request("screen").then(
        (is) => {
          lock = is;
          setHeld(true);
          is.addEventListener("release", () => setHeld(false));
        },
        () => setHeld(false),
      );
    };
    take();
    document.addEventListener("visibilitychange", take);
    return () => {
      over = true;
      document.removeEventListener("visibilitychange", take);
      void lock?.release();
    };
  }, [wanted]);
  return held && wanted;
}
