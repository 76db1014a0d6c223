declare module 'virtual:words:*' {
  const table: Record<string, string>
  export default table
}
