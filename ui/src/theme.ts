import { theme, type ThemeConfig } from "antd";

/** Ant Design's tokens, from the same colours as theme.css. still: next to nothing moves. */
export function themed(dark: boolean, still: boolean): ThemeConfig {
  return {
    algorithm: dark ? theme.darkAlgorithm : theme.defaultAlgorithm,
    // A full red button in the dark is light, so what it says is dark.
    components: dark ? { Button: { dangerColor: "#1d282f", defaultHoverColor: "#7cc4c1", defaultActiveColor: "#7cc4c1" } } : {},
    token: {
      fontFamily: '"Source Sans 3", system-ui, sans-serif',
      fontSize: 14,
      controlHeight: 30,
      controlHeightSM: 25,
      padding: 14,
      paddingLG: 20,
      borderRadius: 4,
      colorPrimary: dark ? "#3f8f8d" : "#0d6e6e",
      colorError: dark ? "#f0a0bf" : "#7c2347",
      colorWarning: dark ? "#f5935c" : "#b83b0b",
      colorText: dark ? "#e8e4da" : "#1d2b33",
      colorTextSecondary: dark ? "#a9b3b5" : "#4f5d64",
      colorTextPlaceholder: dark ? "#9aa6aa" : "#667178",
      colorBgContainer: dark ? "#1d282f" : "#fffdf8",
      colorBgElevated: dark ? "#223037" : "#fffdf8",
      colorBorder: dark ? "#4a5a63" : "#cfc6b4",
      ...(still
        ? { motionDurationFast: "0.01s", motionDurationMid: "0.01s", motionDurationSlow: "0.01s" }
        : { motionDurationMid: "0.12s", motionDurationSlow: "0.16s" }),
    },
  };
}
