import Alpine from "./vendor/alpine/alpine-csp.js";
import { page } from "./page.js";

Alpine.data("page", page);
Alpine.start();
