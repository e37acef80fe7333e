export const handler = () => ({ loaded: true }
