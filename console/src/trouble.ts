import { NoAnswer } from './client'

/** Why a page cannot show what it is for. */
export interface Trouble {
  text: string
  /** Of the response; 0 where there was none. */
  status: number
}

export const troubleOf = (error: unknown): Trouble => ({ text: error instanceof NoAnswer ? error.message : String(error), status: error instanceof NoAnswer ? error.status : 0 })
