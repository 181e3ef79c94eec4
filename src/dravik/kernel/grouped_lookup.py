"""Sums over the corners of a cell, of several tables at once: a vector over the tables, corner after corner."""

from typing import Any

from dravik.compiled import intrinsic

__all__ = ["weigh_eight", "weigh_four", "weigh_one", "weigh_two"]


def _weighing(lanes: int) -> Any:
    """Return the generator of signature and instructions for so many tables that stand side by side."""

    def weigh(
        typing: Any, numbers: Any, at: Any, step: Any, reg: Any, weights: Any, layout: Any, offsets: Any, count: Any,
        into: Any,
    ) -> Any:  # fmt: skip
        from llvmlite import ir
        from numba import types
        from numba.core import cgutils as _cgutils

        cgutils: Any = _cgutils

        whole, small = ir.IntType(64), ir.IntType(32)
        vector = ir.VectorType(ir.DoubleType(), lanes)
        index = types.int64
        signature = types.void(numbers, index, index, reg, index, layout, index, index, index)

        def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            # the address of an array's first number: checks of bounds would cost more than the sum
            def data(k: int) -> Any:
                return context.make_array(signature.args[k])(context, builder, args[k]).data

            # where the corners lie and where results go stands in layout, both as whole numbers
            values, registers, places = data(0), data(3), data(5)
            _, at, step, _, weights, _, offsets, count, into = args
            nothing, zeros = ir.Constant(vector, ir.Undefined), ir.Constant(ir.VectorType(small, lanes), [0] * lanes)
            # one table is two sums, of even and odd corners: a single one would wait for each addition
            sums = [
                cgutils.alloca_once_value(builder, ir.Constant(vector, [0.0] * lanes))
                for _ in range(2 if lanes == 1 else 1)
            ]
            first = builder.gep(registers, [weights])
            corners = builder.gep(places, [offsets])
            base = builder.gep(values, [at])
            step_by = ir.Constant(whole, len(sums))
            with cgutils.for_range_slice(builder, ir.Constant(whole, 0), count, step_by, intp=whole, inc=True) as (
                k,
                _,
            ):
                for odd, total in enumerate(sums):
                    corner = builder.add(k, ir.Constant(whole, odd))
                    place = builder.mul(builder.load(builder.gep(corners, [corner])), step)
                    # the tables of a group stand interleaved: their numbers of one corner are neighbours, one load
                    # fetches all
                    found = builder.bitcast(builder.gep(base, [place]), vector.as_pointer())
                    weight = builder.load(builder.gep(first, [corner]))
                    one = builder.insert_element(nothing, weight, ir.Constant(small, 0))
                    share = builder.fmul(builder.shuffle_vector(one, nothing, zeros), builder.load(found, align=8))
                    builder.store(builder.fadd(builder.load(total), share), total)
            found, targets = builder.load(sums[0]), builder.gep(places, [into])
            if len(sums) == 2:
                found = builder.fadd(found, builder.load(sums[1]))
            for lane in range(lanes):
                target = builder.load(builder.gep(targets, [ir.Constant(whole, lane)]))
                value = builder.extract_element(found, ir.Constant(small, lane))
                builder.store(value, builder.gep(registers, [target]))
            return context.get_dummy_value()

        return signature, generate

    weigh.__name__ = f"weigh_{lanes}"
    weigh.__doc__ = f"Weigh {lanes} tables from ``at``, in ``step`` numbers a corner, into their registers."
    return intrinsic(weigh)


weigh_one, weigh_two, weigh_four, weigh_eight = _weighing(1), _weighing(2), _weighing(4), _weighing(8)
