import "@testing-library/jest-dom/vitest";
import { configure } from "@testing-library/react";

// The machines that run this are shared: waiting long costs nothing when all is well.
configure({ asyncUtilTimeout: 15_000 });
