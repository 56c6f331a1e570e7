declare module '*.css'
declare module '@fontsource/*'
declare module '*.svg?inline' {
  const address: string
  export default address
}
