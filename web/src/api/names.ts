/** Names of items and deliverables. */
export const ITEM_NAME = /^[a-z][a-z0-9_]{0,62}$/;
