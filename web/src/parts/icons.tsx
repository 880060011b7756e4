import { createSvgIcon } from "@mui/material/utils";

export const Close = createSvgIcon(<path d="M6 5l6 6 6-6 1 1-6 6 6 6-1 1-6-6-6 6-1-1 6-6-6-6z" />, "Close");
export const ExpandMore = createSvgIcon(
  <path d="M5.5 8.5l6.5 6.5 6.5-6.5 1.4 1.4-7.9 7.9-7.9-7.9z" />,
  "ExpandMore",
);
export const ExpandLess = createSvgIcon(
  <path d="M5.5 15.5l6.5-6.5 6.5 6.5 1.4-1.4-7.9-7.9-7.9 7.9z" />,
  "ExpandLess",
);
