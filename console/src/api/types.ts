/** What the service answers; names are those of the API. */

export * from "./types/states";
export * from "./types/parts";
export * from "./types/runs";
export * from "./types/service";
