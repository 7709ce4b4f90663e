/** The types of what the service is asked and answers, made of its description. */
import type { components, paths } from './api'

export type Schemas = components['schemas']

/** What a call answers with the status 200, in JSON. */
export type Json<Path extends keyof paths, Method extends keyof paths[Path] = 'get' & keyof paths[Path]> =
  paths[Path][Method] extends { responses: { 200: { content: { 'application/json': infer Answer } } } } ? Answer : never
